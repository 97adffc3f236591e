/** What a card of the bench is given, and what the screens of a run are told while it goes on. */
import type { Body, Schemas, VisitView } from "@/shared/client";
import type { Point } from "@/design/FogLadder";

export type Connection = "live" | "polling" | "away";

export interface LiveNumbers {
  run_id: string;
  t: number | null;
  outside: string | null;
  inside: string | null;
  inside_live: boolean;
  wall: number | null;
  wall_words: string | null;
  shares: number[];
  factors: (string | null)[];
  bounds: (string | null)[];
  ended_by: string;
  unlikely: boolean;
  lost: boolean;
  points: Point[];
}

/** What the instrument reads inside while the seal is broken on purpose. */
export interface LiveProof {
  inside: string | null;
  still: boolean;
  risen: boolean;
}

export interface CardProps {
  view: VisitView;
  card: Schemas["Card"];
  propose: (body: Body) => void;
}

export interface ActProps extends CardProps {
  next?: string;
  back?: (() => void) | undefined;
  put: (view: VisitView) => void;
  pending: (kind: string) => number;
  liveProof: LiveProof | null;
}
