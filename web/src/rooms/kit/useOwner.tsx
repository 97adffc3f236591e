import { NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, unwrap } from "@/shared/client";

/** Whose new kit is: asked only of somebody who works for several employers. */
export function useOwner() {
  const [owner, setOwner] = useState("");
  const sites =
    useQuery({ queryKey: keys.sites, queryFn: () => unwrap(api.GET("/api/sites")), staleTime: 300_000 }).data ?? [];
  const employers = new Map(sites.map((one) => [one.employer_id, one.employer]));
  const field = employers.size > 1 && (
    <NativeSelect
      label="Whose it is"
      data={[
        { value: "", label: "no employer’s own: for all" },
        ...[...employers].map(([value, label]) => ({ value, label })),
      ]}
      value={owner}
      onChange={(event) => setOwner(event.currentTarget.value)}
      w={230}
      size="md"
    />
  );
  return { employer_id: owner || null, field };
}
