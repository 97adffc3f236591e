import { useState } from "react";
import { v7 as uuid } from "uuid";
import { api, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { Problem, Text } from "@/design/Fields";
import "./WearerSigns.css";

interface Props {
  token: string;
  what: Schemas["ToSign"];
  take: (view: Schemas["WearerView"]) => void;
}

/** What the wearer signs, on their own screen: the same words as at the bench, and a line for their name. */
export function WearerSigns({ token, what, take }: Props) {
  const [name, setName] = useState("");
  const { problem, attempt } = useAttempt("This was not accepted.");
  const sign = () =>
    attempt(async () => {
      const body = { id: uuid(), expects: what.seq, typed_name: name };
      take(await unwrap(api.POST("/api/wearer/{token}/signature", { params: { path: { token } }, body })));
    });
  return (
    <form
      className="wearer-signs"
      onSubmit={(event) => {
        event.preventDefault();
        void sign();
      }}
    >
      <ul>
        {[...what.tries, ...what.limits].map((one) => (
          <li key={one}>{one}</li>
        ))}
      </ul>
      <p>{what.terms}</p>
      <p>{what.under.join(" ")}</p>
      <div className="field-row">
        <Text
          label="Your name"
          value={name}
          set={setName}
          required
          maxLength={190}
          w={420}
          size="lg"
          autoComplete="off"
        />
        <button type="submit" className="act">
          Sign
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}
