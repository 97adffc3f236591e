import { Key } from "@/design/Key";

/** The wearer touched it in mid-run: did it move? Keys of its own: Space goes on meaning what the run needs. */
export function TouchedNote({ answer }: { answer: (moved: boolean) => void }) {
  return (
    <div className="note" role="alert">
      <h2>Touched: did it move?</h2>
      <div className="foot-keys">
        <Key cap="1" label="no, nothing moved" onPress={() => answer(false)} />
        <Key cap="2" label="it moved: void" tone="rust" onPress={() => answer(true)} />
      </div>
    </div>
  );
}
