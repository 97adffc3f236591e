import { Mark } from "@/design/Marks";

interface Props {
  stops: readonly { code: string; sentence: string; detail: string }[];
}

/** Everything that lets no run start, each with what settles it. */
export function Stops({ stops }: Props) {
  return (
    <ul className="lines stops">
      {stops.map((one) => (
        <li key={one.code + one.sentence}>
          <Mark name="wall" size={30} />
          <div>
            {one.sentence}
            {one.detail && <p className="reading">{one.detail}</p>}
          </div>
        </li>
      ))}
    </ul>
  );
}
