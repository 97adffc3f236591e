import "./States.css";
import type { ReactNode } from "react";
import { ApiError } from "@/shared/client";

/** Something is on its way. */
export function Loading({ what }: { what: string }) {
  return (
    <main className="page" aria-busy="true">
      <p className="dim">{what}: one moment…</p>
    </main>
  );
}

/** Something did not come: what, why, and again. */
export function Failed({ error, again }: { error: unknown; again: () => void }) {
  const words = error instanceof ApiError ? error.message : "Something unexpected happened in this page.";
  return (
    <main className="page">
      <div className="note rust" role="alert">
        <h2>That did not come</h2>
        <p>{words}</p>
        <p>
          <button type="button" className="act" onClick={again}>
            Try again
          </button>
        </p>
      </div>
    </main>
  );
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
