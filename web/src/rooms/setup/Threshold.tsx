import type { ReactNode } from "react";
import { Mark } from "@/design/Marks";

/** The page before one is inside: the moor, and one thing to fill in. */
export function Threshold({ title, words, children }: { title: string; words: string; children: ReactNode }) {
  return (
    <main className="signin">
      <svg viewBox="0 0 1200 420" preserveAspectRatio="none" aria-hidden="true">
        <path d="M0 250C200 190 330 300 560 240s420-110 640-30v210H0z" className="far" />
        <path d="M0 320c240-60 420 40 640-6s380-30 560 26v80H0z" className="near" />
      </svg>
      <div className="threshold">
        <h1>
          <Mark name="cairn" size={44} /> {title}
        </h1>
        <p className="dim">{words}</p>
        {children}
      </div>
    </main>
  );
}
