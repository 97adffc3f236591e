import { useState } from "react";

/** How many rows a list shows at a time: as many as there are digits to choose by. */
const NINE = 9;

interface Nine<T> {
  rows: T[];
  page: number;
  pages: number;
  more: (() => void) | undefined;
}

/** Show a list by nines; what is behind the last nine begins anew. */
export function useNine<T>(all: T[]): Nine<T> {
  const [asked, ask] = useState(0);
  const pages = Math.max(1, Math.ceil(all.length / NINE));
  const page = asked % pages;
  const rows = all.slice(page * NINE, (page + 1) * NINE);
  return { rows, page: page + 1, pages, more: pages > 1 ? () => ask((page + 1) % pages) : undefined };
}
