import { useState } from "react";
import type { Body, BenchView } from "@/shared/client";
import { dayIn } from "@/shared/clock";
import { useSession } from "@/shared/session";
import { Text } from "@/design/Fields";

interface Props {
  view: BenchView;
  reason: string;
  propose: (body: Body) => void;
  back: () => void;
}

/** Turned away: the reason, a day to come back, a line in the record. */
export function TurnAway({ view, reason, propose, back }: Props) {
  const [why, setWhy] = useState(reason);
  const [day, setDay] = useState(dayIn(view.zone, 1));
  const [isAsked, setAsked] = useState(false);
  const me = useSession().data?.account_id;
  const colleague = me !== undefined && view.opened_by !== me ? view.opener || "A colleague" : "";
  return (
    <form
      className="card"
      onSubmit={(event) => {
        event.preventDefault();
        if (colleague && !isAsked) setAsked(true);
        else propose({ kind: "turned_away", reason: why, come_back_on: day || null });
      }}
    >
      <h1 className="question">Turn {view.first_name} away today</h1>
      <p className="say">“I cannot test you today. Come back on the day I write down.”</p>
      <div className="stack">
        <Text
          label="Reason, short; never a diagnosis"
          value={why}
          set={setWhy}
          maxLength={200}
          required
          data-autofocus
          autoFocus
          size="md"
        />
        <Text label="Come back on" type="date" value={day} set={setDay} size="md" />
        {isAsked && (
          <p className="gorse" role="alert">
            {colleague} opened this visit. Ask them first.
          </p>
        )}
        <div className="field-row">
          <button className="act" type="submit">
            {isAsked ? "They know: turn away" : "Turn away and record it"}
          </button>
          <button className="quiet" type="button" onClick={back}>
            Back to the question
          </button>
        </div>
      </div>
    </form>
  );
}
