import "./States.css";
import type { ReactNode } from "react";
import { ApiError } from "@/shared/client";

/** Something is on its way. ``inside``: a part of a page, which has a main part already. */
export function Loading({ what, inside = false }: { what: string; inside?: boolean }) {
  const words = <p className="dim">{what}: one moment…</p>;
  if (inside) return <div aria-busy="true">{words}</div>;
  return (
    <main className="page" aria-busy="true">
      {words}
    </main>
  );
}

interface Missing {
  error: unknown;
  again: () => void;
  inside?: boolean;
}

/** Something did not come: what, why, and again. ``inside``: a part of a page, which has a main part already. */
export function Failed({ error, again, inside = false }: Missing) {
  const words = error instanceof ApiError ? error.message : "Something unexpected happened in this page.";
  const note = (
    <div className="note rust" role="alert">
      <h2>That did not come</h2>
      <p>{words}</p>
      <p>
        <button type="button" className="act" onClick={again}>
          Try again
        </button>
      </p>
    </div>
  );
  return inside ? note : <main className="page">{note}</main>;
}

/** Nothing here yet, and what to do about it. */
export function Empty({ children }: { children: ReactNode }) {
  return <div className="empty">{children}</div>;
}

/** Page n of m, with steps. */
export function Pager({ page, pages, go }: { page: number; pages: number; go: (page: number) => void }) {
  if (pages <= 1) return null;
  return (
    <nav className="pager" aria-label="Pages">
      <button type="button" className="quiet" disabled={page <= 1} onClick={() => go(page - 1)}>
        Earlier page
      </button>
      <span>
        page {page} of {pages}
      </span>
      <button type="button" className="quiet" disabled={page >= pages} onClick={() => go(page + 1)}>
        Next page
      </button>
    </nav>
  );
}
