/** Answers as they are proposed: one question, or all of one look. */
import type { Body, Card } from "@/shared/client";
import { SCREEN } from "@/shared/screen";

/** An answer to one card; minutes for "how long ago". */
export function answerTo(card: Card, answer: "fine" | "not_fine", minutesAgo?: number): Body {
  return {
    kind: "answered",
    question: card.id,
    answer,
    facts: card.facts,
    minutes_ago: minutesAgo ?? null,
    note: "",
    screen: SCREEN,
  };
}

/** All cards of a look found fine with one press; the log gets an answer for each. */
export function allFine(cards: Card[]): Body {
  return {
    kind: "answer_together",
    answers: cards.map((one) => ({ question: one.id, facts: one.facts })),
    screen: SCREEN,
  };
}

/** The cards of one look at the head of a list, as long as they stand as wanted; none where the first is alone. */
export function lookAt(cards: Card[], stands: (card: Card) => boolean): Card[] {
  const first = cards[0];
  if (!first?.look) return [];
  const end = cards.findIndex((one) => one.look !== first.look || !stands(one));
  const together = end === -1 ? cards : cards.slice(0, end);
  return together.length > 1 ? together : [];
}
