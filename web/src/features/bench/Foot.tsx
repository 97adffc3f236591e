import type { ReactNode } from "react";

/** The foot of a card: the keys, always in the same place, and what comes next. */
export function Foot({ children, next }: { children: ReactNode; next?: string | undefined }) {
  return (
    <footer className="foot">
      <div className="foot-keys">{children}</div>
      {next && <div className="next">next: {next}</div>}
    </footer>
  );
}
