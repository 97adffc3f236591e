/** Words for codes that several rooms show. */

const LINK: Record<string, string> = { in_run: "in a run" };
const CLOSED: Record<string, string> = { turned_away: "turned away" };

/** What a link is doing. */
export function linkWords(state: string): string {
  return LINK[state] ?? state;
}

/** How a visit ended. */
export function closedWords(closed: string): string {
  return CLOSED[closed] ?? closed;
}

/** What somebody typed, parted by commas, without blanks. */
export function parts(text: string): string[] {
  const each = text.split(",");
  return each.map((one) => one.trim()).filter(Boolean);
}
