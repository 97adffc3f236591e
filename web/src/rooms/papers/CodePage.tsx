import { NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { Mark } from "@/design/Marks";
import { Loading } from "@/design/States";
import { api, ApiError, keys, type Schemas, unwrap } from "@/shared/client";
import { Problem, Text } from "@/design/Fields";
import { useChange } from "@/shared/attempt";
import { useTitle } from "@/shared/title";
import "@/rooms/papers/code.css";

const SAID: Record<Schemas["CodeView"]["status"], { word: string; mark: "cairn" | "wall"; means: string }> = {
  valid: { word: "Valid", mark: "cairn", means: "May be worn, by this person, in this size." },
  ended: { word: "Ended", mark: "wall", means: "The test counts no longer. Not to be worn before a new test." },
  withdrawn: { word: "Withdrawn", mark: "wall", means: "Not to be worn. The supervisor knows who settles it." },
  superseded: { word: "Replaced", mark: "wall", means: "There is a newer card for this facepiece. Ask for that one." },
};

/** What a card's code says now, for anybody at a gate: a word, a shape, whose initials, which facepiece, until when. */
export function CodePage() {
  useTitle("A card");
  const { code = "" } = useParams();
  const found = useQuery({
    queryKey: keys.code(code),
    queryFn: () => unwrap(api.GET("/api/codes/{code}", { params: { path: { code } } })),
    retry: false,
  });
  if (found.isPending) return <Loading what="This card" />;
  if (found.isError)
    return (
      <main className="gate">
        <Mark name="wall" size={96} />
        <h1>No such card</h1>
        <p>{found.error instanceof ApiError ? found.error.message : "It could not be asked. Try again."}</p>
        <p>Do not take it for a proof.</p>
      </main>
    );
  const card = found.data;
  const { word, mark, means } = SAID[card.status];
  return (
    <main className={`gate ${card.status}`} data-status={card.status}>
      <Mark name={mark} size={96} />
      <h1>{word}</h1>
      <p className="means">{means}</p>
      {card.facepiece && (
        <dl>
          <dt>Initials</dt>
          <dd>{card.initials}</dd>
          <dt>Facepiece and size</dt>
          <dd>{card.facepiece}</dd>
          <dt>{card.status === "valid" ? "Until" : "Was until"}</dt>
          <dd>{card.until}</dd>
          {card.limits.map((one) => (
            <dd key={one}>
              <b>{one}</b>
            </dd>
          ))}
        </dl>
      )}
      {card.status === "valid" && <Holder code={code} />}
      <p className="dim">
        {card.code}, asked on {card.checked_on}. Compare the initials with whoever holds the card.
      </p>
    </main>
  );
}

const KINDS: { value: Schemas["CardReport"]["kind"]; label: string }[] = [
  { value: "fit", label: "It does not fit or seal any more" },
  { value: "face", label: "My face has changed: scar, teeth, surgery, weight" },
  { value: "facepiece", label: "I have another facepiece, or it was altered" },
  { value: "workplace", label: "My work or workplace has changed" },
  { value: "health", label: "My health has changed; what it is I tell the clinician" },
];

/** Whoever holds the card says that something has changed: it ends at once, and those who settle it see it. */
function Holder({ code }: { code: string }) {
  const [isOpen, setOpen] = useState(false);
  const [kind, setKind] = useState<Schemas["CardReport"]["kind"]>("fit");
  const [number, setNumber] = useState("");
  const { problem, change } = useChange([["code"]]);
  if (!isOpen)
    return (
      <button type="button" className="quiet" onClick={() => setOpen(true)}>
        This is my card, and something has changed
      </button>
    );
  const say = () =>
    change(() => unwrap(api.POST("/api/codes/{code}/report", { params: { path: { code } }, body: { kind, number } })));
  return (
    <form
      className="note"
      onSubmit={(event) => {
        event.preventDefault();
        void say();
      }}
    >
      <NativeSelect
        label="What has changed"
        data={KINDS}
        value={kind}
        onChange={(event) => setKind(event.currentTarget.value as typeof kind)}
      />
      <Text label="Your number, as it stands on the card" value={number} set={setNumber} maxLength={40} required />
      <p>The card counts no longer from now on, until somebody has looked at it with you.</p>
      <button type="submit" className="act" disabled={!number.trim()}>
        Say so
      </button>
      <Problem words={problem} />
    </form>
  );
}
