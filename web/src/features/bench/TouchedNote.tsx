import { Key } from "@/design/Key";

/** The wearer touched it in mid-run: did it move? */
export function TouchedNote({ answer }: { answer: (moved: boolean) => void }) {
  return (
    <div className="note" role="alert">
      <h2>Touched: did it move?</h2>
      <div className="foot-keys">
        <Key cap="Space" label="no, nothing moved" onPress={() => answer(false)} />
        <Key cap="N" label="it moved: void" tone="rust" onPress={() => answer(true)} />
      </div>
    </div>
  );
}
