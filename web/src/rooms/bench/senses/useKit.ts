import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";

type Nebuliser = Schemas["NebuliserView"];
type Lot = Schemas["LotView"];

export interface HeldKit {
  isReady: boolean;
  nebuliser: Nebuliser | undefined;
  lots: Lot[];
  missing: string[];
  problem: string;
  another: (() => void) | undefined;
  sprays: (() => void) | undefined;
  refill: (() => void) | undefined;
}

/** The kit at hand for a step: a nebuliser by its role, or the freshest lots by theirs; and how to put it right here. */
export function useKit(agent: string, role: string, lotRoles: string[]): HeldKit {
  const queries = useQueryClient();
  const [chosen, setChosen] = useState(0);
  const { problem, attempt } = useAttempt("That was not recorded.");
  const nebulisers = useQuery({
    queryKey: keys.nebulisers,
    queryFn: () => unwrap(api.GET("/api/nebulisers")),
    enabled: role !== "",
    refetchInterval: 5000,
  });
  const lots = useQuery({
    queryKey: keys.lots(agent, 1),
    queryFn: () => unwrap(api.GET("/api/lots", { params: { query: { agent, page: 1 } } })),
    enabled: lotRoles.length > 0,
  });
  const mine = (nebulisers.data ?? [])
    .filter((one) => one.role === role && (one.agent === agent || one.agent === ""))
    .sort((a, b) => a.blocked_by.length - b.blocked_by.length);
  const nebuliser = mine[chosen % Math.max(1, mine.length)];
  const held = lotRoles.map((each) => lots.data?.rows.find((one) => one.role === each && !one.is_expired));
  const missing = lotRoles.filter((_, i) => !held[i]).map((one) => one.replaceAll("_", " "));
  const act = (call: () => Promise<unknown>) =>
    attempt(async () => {
      await call();
      await queries.invalidateQueries({ queryKey: keys.nebulisers });
    });
  const path = { nebuliser_id: nebuliser?.id ?? "" };
  const lotId = nebuliser?.lot?.id;
  const isFetched = (role === "" || nebulisers.isSuccess) && (lotRoles.length === 0 || lots.isSuccess);
  const isSound = role === "" || (nebuliser !== undefined && nebuliser.blocked_by.length === 0);
  return {
    isReady: isFetched && isSound && missing.length === 0,
    nebuliser,
    lots: held.filter((one) => one !== undefined),
    missing: role !== "" && isFetched && !nebuliser ? [`nebuliser ${role === "fit" ? 2 : 1}`, ...missing] : missing,
    problem,
    another: mine.length > 1 ? () => setChosen(chosen + 1) : undefined,
    sprays: nebuliser?.lot
      ? () => void act(() => unwrap(api.POST("/api/nebulisers/{nebuliser_id}/checks", { params: { path } })))
      : undefined,
    refill: lotId
      ? () =>
          void act(() =>
            unwrap(api.POST("/api/nebulisers/{nebuliser_id}/fillings", { params: { path }, body: { lot_id: lotId } })),
          )
      : undefined,
  };
}
