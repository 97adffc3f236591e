import { TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import type { Asked } from "@/rooms/records/useAsked";

type Suggestion = Schemas["Suggestion"];
const WAIT_MS = 200;

/** One field for everything: a name, a number, a model, a counter, a lot, a tester, a card's code, a day. */
export function Search({ ask }: { ask: (change: Partial<Asked>) => void }) {
  const [text, setText] = useState("");
  const [q] = useDebouncedValue(text.trim().slice(0, 60), WAIT_MS);
  const go = useNavigate();
  const rows =
    useQuery({
      queryKey: keys.suggestions(q),
      queryFn: () => unwrap(api.GET("/api/records/suggestions", { params: { query: { q } } })),
      enabled: q.length > 1,
      placeholderData: (old) => old,
    }).data?.rows ?? [];
  const shown = q.length > 1 ? rows : [];
  const choose = (one: Suggestion) => {
    setText("");
    if (one.meant === "card") void go(`/visit/${one.id}`);
    else if (one.meant === "day") ask({ since: one.id, until: one.id });
    else ask({ [one.meant]: one.id, [`${one.meant}Words`]: one.words });
  };
  return (
    <div className="finder">
      <TextInput
        label="Whose, in what, with what, by whom, when"
        placeholder="name, number, model, counter, lot, tester, code of a card, 2026-03-02"
        value={text}
        onChange={(event) => setText(event.currentTarget.value)}
        onKeyDown={(event) => {
          if (event.key === "Enter" && shown[0]) choose(shown[0]);
        }}
        size="md"
        maxLength={60}
      />
      {shown.length > 0 && (
        <ul className="meant" aria-label="What you may mean">
          {shown.map((one) => (
            <li key={one.meant + one.id}>
              <button type="button" className="quiet" onClick={() => choose(one)}>
                <span className="dim">{one.meant}</span> {one.words}
              </button>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}
