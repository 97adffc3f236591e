import type { ReactNode } from "react";

/** The foot of a card: the keys, always in the same place, and what comes next. */
export function Foot({ children, next, above }: { children: ReactNode; next?: string | undefined; above?: ReactNode }) {
  return (
    <footer className={above ? "foot with-key" : "foot"}>
      {above}
      <div className="foot-keys">{children}</div>
      {next && <div className="next">next: {next}</div>}
    </footer>
  );
}
