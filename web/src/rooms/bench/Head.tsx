import { StrapDrawing } from "@/design/StrapDrawing";
import type { CardProps } from "@/rooms/bench/card";

/** What an act's card begins with: where it comes from, what is done, the words to say, a drawing. */
export function Head({ card, view, children }: Pick<CardProps, "card" | "view"> & { children?: React.ReactNode }) {
  return (
    <>
      <p className="mode">
        Do
        <i />
        {card.source}
      </p>
      <div className="card-head">
        <div>
          <h1 className="question">{card.title}</h1>
          <p className="say">“{card.say}”</p>
          {children}
        </div>
        {card.drawing && <StrapDrawing name={card.drawing} outline={view.visit.facepiece?.outline} />}
      </div>
    </>
  );
}
