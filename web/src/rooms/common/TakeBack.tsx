import { useState } from "react";
import { Problem, Text } from "@/design/Fields";

interface Props {
  /** The small key that opens it. */
  label: string;
  /** What is asked for. */
  ask: string;
  problem: string;
  /** Takes it back with the reason; resolves to whether it was. */
  take: (why: string) => Promise<boolean>;
}

/** Something that was said is taken back, with the reason; it stays to be read. */
export function TakeBack({ label, ask, problem, take }: Props) {
  const [why, setWhy] = useState<string | null>(null);
  if (why === null)
    return (
      <button type="button" className="quiet" onClick={() => setWhy("")}>
        {label}
      </button>
    );
  return (
    <>
      <form
        className="field-row"
        onSubmit={(event) => {
          event.preventDefault();
          void take(why).then((done) => done && setWhy(null));
        }}
      >
        <Text label={ask} value={why} set={setWhy} required maxLength={400} w={420} autoFocus />
        <button type="submit" className="act">
          Take it back
        </button>
      </form>
      <Problem words={problem} />
    </>
  );
}
