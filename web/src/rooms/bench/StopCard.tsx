import { useState } from "react";
import type { Schemas } from "@/shared/client";
import { KEY, useKeys } from "@/shared/keys";
import { Key } from "@/design/Key";
import { Stops } from "@/rooms/bench/Stops";
import { ChooseCard } from "@/rooms/bench/ChooseCard";
import { Foot } from "@/rooms/bench/Foot";
import { TurnAway } from "@/rooms/bench/TurnAway";
import type { ActProps } from "@/rooms/bench/card";

type Way = Schemas["InTheWay"];

/** What will let no run start, said before it is put on; and the ways out: choose again, turn away, or file it meanwhile. */
export function StopCard({ way, goOn, ...props }: Omit<ActProps, "card"> & { way: Way; goOn: () => void }) {
  const { view, propose, back } = props;
  const [next, setNext] = useState<"" | "choose" | "turn">("");
  const { stops, is_of_the_file: isOfFile } = way;
  const isOpen = next === "";
  useKeys({
    [KEY.fine]: isOpen ? () => setNext("choose") : undefined,
    l: isOpen && isOfFile ? goOn : undefined,
    t: isOpen ? () => setNext("turn") : undefined,
  });
  const close = () => setNext("");
  if (next === "choose") return <ChooseCard {...props} card={way.again} back={close} />;
  if (next === "turn") return <TurnAway view={view} reason={stops[0]?.sentence ?? ""} propose={propose} back={close} />;
  return (
    <section className="card" data-item="stopped">
      <p className="mode">
        Stop
        <i />
        said now, not when it is worn
      </p>
      <h1 className="question">No test like this</h1>
      <Stops stops={stops} />
      <Foot>
        <Key cap="Space" label="choose again" tone="tarn" onPress={() => setNext("choose")} />
        <Key cap="T" label="turn away, with a day" tone="rust" onPress={() => setNext("turn")} />
        {isOfFile && <Key cap="L" label="go on, it is filed meanwhile" onPress={goOn} />}
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}
