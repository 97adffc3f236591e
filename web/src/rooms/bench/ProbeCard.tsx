import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, unwrap } from "@/shared/client";
import { dateTime } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { useNine } from "@/shared/nine";
import { Key } from "@/design/Key";
import { More } from "@/design/More";
import type { ActProps } from "@/rooms/bench/card";
import { Foot } from "@/rooms/bench/Foot";
import { Head } from "@/rooms/bench/Head";

/** The probe goes on: what of the kit is taken, by its digit, and what will have to be put back. */
export function ProbeCard({ card, view, propose, next, back }: ActProps) {
  const [taken, setTaken] = useState<string[]>([]);
  const visit = view.visit_id;
  const isSampled = card.id === "probe";
  const parts =
    useQuery({
      queryKey: keys.partsFor(visit, view.visit.seq),
      queryFn: () => unwrap(api.GET("/api/visits/{visit_id}/parts", { params: { path: { visit_id: visit } } })),
      enabled: isSampled,
    }).data ?? [];
  const may = (id: string) => parts.find((one) => one.id === id)?.blocked_by.length === 0;
  const turn = (id: string) =>
    setTaken(taken.includes(id) ? taken.filter((one) => one !== id) : may(id) ? [...taken, id] : taken);
  const fitted = () => propose({ kind: "fit_probe", part_ids: taken.filter(may) });
  const nine = useNine(parts);
  useKeys({
    [KEY.fine]: fitted,
    [KEY.more]: nine.more,
    ...Object.fromEntries(nine.rows.map((one, n) => [`${n + 1}`, () => turn(one.id)])),
  });
  const alterations = view.visit.alterations_to_make;
  return (
    <section className="card" data-item={card.id}>
      <Head card={card} view={view}>
        {alterations.length > 0 && (
          <p className="reading">
            To be put back before {view.first_name} goes: <b>{alterations.join("; ").toLowerCase()}</b>. It stays in
            sight on the right.
          </p>
        )}
        {parts.length > 0 && (
          <ul className="options parts" aria-label="What is fitted">
            {nine.rows.map((one, n) => (
              <li key={one.id} className={one.blocked_by.length ? "off" : ""}>
                <button
                  type="button"
                  aria-pressed={taken.includes(one.id)}
                  disabled={one.blocked_by.length > 0}
                  onClick={() => turn(one.id)}
                >
                  <kbd>{n + 1}</kbd>
                  <span>
                    <b>{one.name}</b>
                    <small>
                      {one.is_for_model ? one.kind : `${one.kind}, for other models`} · {one.fits}
                    </small>
                  </span>
                  <span className={one.blocked_by.length ? "rust" : taken.includes(one.id) ? "tarn" : "dim"}>
                    {taken.includes(one.id)
                      ? "taken"
                      : one.blocked_by.join("; ") ||
                        (one.cleaned_at ? `cleaned ${dateTime(one.cleaned_at)}` : "ready, sealed")}
                  </span>
                </button>
              </li>
            ))}
          </ul>
        )}
      </Head>
      <Foot next={next}>
        <Key
          cap="Space"
          label={parts.length > 0 && taken.length === 0 ? "fitted, none of these" : "fitted"}
          tone="tarn"
          onPress={fitted}
        />
        <More {...nine} />
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}
