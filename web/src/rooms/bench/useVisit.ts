import { notifications } from "@mantine/notifications";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { v7 as uuid } from "uuid";
import { api, ApiError, type Body, isRefusal, keys, type Schemas, unwrap, type BenchView } from "@/shared/client";
import { notBefore, serverNow } from "@/shared/clock";
import { benchOf, type Presser, useOutbox } from "@/shared/outbox";
import type { Point } from "@/design/FogLadder";
import type { Connection, LiveNumbers, LiveProof } from "@/rooms/bench/card";

const OBSERVATIONS = new Set<Body["kind"]>([
  "touched",
  "distress",
  "stopped",
  "doffed",
  "squeezed",
  "dose_given",
  "detected",
  "eyes_opened",
  "qualitative_ended",
  "screened",
]);
type Proposal = Schemas["Proposal"];
/** As kept by a page from before presses named their visit: it belongs to the place it was kept in. */
type Unbound = Omit<Proposal, "visit_id" | "person_id" | "mark">;

/** Points of a run in order; a message that begins earlier than what is known brings the whole run anew. */
function joined(known: Point[], fresh: Point[]): Point[] {
  const [first, other] = (fresh[0]?.[0] ?? 0) <= (known[0]?.[0] ?? 0) ? [fresh, known] : [known, fresh];
  const after = first.at(-1)?.[0] ?? Number.NEGATIVE_INFINITY;
  return [...first, ...other.filter((one) => one[0] > after)];
}

/** Whether a newer view may replace an older one: never back to an earlier entry of the log. */
function newer(old: BenchView | undefined, fresh: BenchView): BenchView {
  return old && old.visit.seq > fresh.visit.seq ? old : fresh;
}

/** One visit, kept live: its view, its numbers, and a way to propose that loses nothing when the server is away. */
export function useVisit(visitId: string, who: Presser) {
  const queries = useQueryClient();
  const [connection, setConnection] = useState<Connection>("polling");
  const [live, setLive] = useState<LiveNumbers | null>(null);
  const [proof, setProof] = useState<LiveProof | null>(null);
  const box = useOutbox<Proposal | Unbound>(benchOf(visitId), who);
  const { entries: outbox, add, drop, putLast, again } = box;
  const [isStuck, setStuck] = useState(false);
  const [held, setHeld] = useState("");
  const [late, setLate] = useState<Proposal | Unbound | null>(null);
  const sending = useRef(false);

  const visit = useQuery({
    queryKey: keys.visit(visitId),
    queryFn: () => unwrap(api.GET("/api/visits/{visit_id}", { params: { path: { visit_id: visitId } } })),
    refetchInterval: connection === "live" ? 30_000 : 2000,
    structuralSharing: (old, fresh) => newer(old as BenchView | undefined, fresh as BenchView),
  });

  const put = useCallback(
    (view: BenchView) => {
      notBefore(view.visit.at);
      queries.setQueryData<BenchView>(keys.visit(visitId), (old) => newer(old, view));
    },
    [queries, visitId],
  );

  useEffect(() => {
    let source: EventSource | null = null;
    const open = () => {
      if (source || document.hidden) return;
      source = new EventSource(`/api/live?visit=${visitId}`);
      source.onopen = () => setConnection("live");
      source.onerror = () => setConnection("polling");
      source.addEventListener("state", (event) => {
        setConnection("live");
        put(JSON.parse(event.data as string) as BenchView);
      });
      source.addEventListener("away", () => setConnection("away"));
      source.addEventListener("resync", () => void queries.invalidateQueries({ queryKey: keys.visit(visitId) }));
      source.addEventListener("proof", (event) => setProof(JSON.parse(event.data as string) as LiveProof));
      source.addEventListener("live", (event) => {
        const fresh = JSON.parse(event.data as string) as LiveNumbers;
        setLive((old) => {
          if (old?.run_id !== fresh.run_id) return fresh;
          return { ...fresh, points: joined(old.points, fresh.points) };
        });
      });
    };
    const close = () => {
      source?.close();
      source = null;
    };
    const onVisibility = () => {
      if (document.hidden) close();
      else open();
    };
    open();
    document.addEventListener("visibilitychange", onVisibility);
    return () => {
      close();
      document.removeEventListener("visibilitychange", onVisibility);
    };
  }, [visitId, put, queries]);

  const person = visit.data?.person_id ?? "";
  const mark = visit.data?.mark ?? "";
  /** What a press made now is bound to. */
  const seen = useCallback(
    (isObservation: boolean) => ({ visit_id: visitId, person_id: person, mark: isObservation ? null : mark }),
    [visitId, person, mark],
  );
  useEffect(() => {
    const first = outbox[0];
    if (!first || !person || sending.current) return;
    sending.current = true;
    let timer = 0;
    const body = "visit_id" in first ? first : { ...first, ...seen(first.expects === null) };
    unwrap(api.POST("/api/visits/{visit_id}/events", { params: { path: { visit_id: visitId } }, body }))
      .then((view) => {
        setStuck(false);
        setHeld("");
        setLate((one) => (one?.id === first.id ? null : one));
        put(view);
        drop(first.id);
      })
      .catch((error: unknown) => {
        if (!isRefusal(error)) {
          setStuck(true);
          const isSignedOut = error instanceof ApiError && [401, 403].includes(error.status);
          if (isSignedOut) void queries.invalidateQueries({ queryKey: keys.session });
          timer = window.setTimeout(again, isSignedOut ? 5000 : 1000);
          return;
        }
        setStuck(false);
        const words = error.message;
        const isThere = error.code === "id_reused";
        if (first.expects === null && !isThere) {
          // what was observed is never lost: it waits at the end, is shown, and is sent again
          setHeld(words);
          if (error.code === "late_observation") setLate(first);
          timer = window.setTimeout(() => putLast(first.id), 3000);
          return;
        }
        drop(first.id);
        notifications.show({ id: `refused-${first.id}`, title: "Not accepted", message: words, color: "orange" });
        void queries.invalidateQueries({ queryKey: keys.visit(visitId) });
      })
      .finally(() => {
        sending.current = false;
      });
    return () => {
      if (timer) window.clearTimeout(timer);
    };
  }, [outbox, visitId, person, seen, put, queries, drop, putLast, again]);

  const seq = visit.data?.visit.seq ?? 0;
  // a decision on its way keeps out another one on the same view, not one on what has come since
  const busy = outbox.some((one) => one.expects === seq);
  const propose = useCallback(
    (body: Body) => {
      const isObservation = OBSERVATIONS.has(body.kind ?? "");
      if (busy && !isObservation) return;
      const proposal: Proposal = {
        id: uuid(),
        expects: isObservation ? null : seq,
        occurred_at: new Date(serverNow()).toISOString(),
        ...seen(isObservation),
        body,
      };
      add(proposal);
    },
    [busy, seq, seen, add],
  );

  /** Enter what was observed in a visit that is closed by now, on the record as it stands. */
  const enterLate = useCallback(() => {
    if (!late) return;
    drop(late.id);
    add({ ...late, ...seen(false), id: uuid(), expects: seq });
    setLate(null);
    setHeld("");
  }, [late, seq, seen, add, drop]);

  /** How many entries of a kind were pressed here and are not yet stored. */
  const pending = useCallback((kind: string) => outbox.filter((one) => one.body.kind === kind).length, [outbox]);

  return {
    visit,
    connection: isStuck ? "away" : connection,
    live,
    proof,
    propose,
    put,
    outbox,
    pending,
    unsent: outbox.length + box.others.length,
    others: box.others,
    isKept: box.isKept,
    held: outbox.length ? held : "",
    enterLate: late && outbox.length ? enterLate : null,
  };
}

export type Bench = ReturnType<typeof useVisit>;
