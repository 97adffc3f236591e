/** What a card of the bench is given, and what the screens of a run are told while it goes on. */
import type { Body, Schemas, BenchView } from "@/shared/client";

export type Connection = "live" | "polling" | "away";

export type LiveNumbers = Schemas["LiveMessage"];
export type LiveProof = Schemas["ProofMessage"];

export interface CardProps {
  view: BenchView;
  card: Schemas["Card"];
  propose: (body: Body) => void;
}

export interface ActProps extends CardProps {
  next?: string;
  back?: (() => void) | undefined;
  put: (view: BenchView) => void;
  pending: (kind: string) => number;
  liveProof: LiveProof | null;
}
