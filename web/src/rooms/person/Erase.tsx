import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Problem, Text } from "@/design/Fields";
import { useChange } from "@/shared/attempt";
import { api, keys, unwrap } from "@/shared/client";

/** What is shown of these, wherever. */
const SHOWN = [["person"], ["people"], ["erasures"]];

/** Somebody's personal data, to be erased for good: first what that takes away. */
export function Erase({ person }: { person: string }) {
  const [why, setWhy] = useState("");
  const path = { person_id: person };
  const { problem, change } = useChange(SHOWN);
  const found = useQuery({
    queryKey: keys.erasure(person),
    queryFn: () => unwrap(api.GET("/api/people/{person_id}/erasure", { params: { path } })),
  }).data;
  if (!found) return null;
  if (found.not_yet) return <p className="note">{found.not_yet}</p>;
  return (
    <form
      className="note heath"
      aria-label="Erase personal data"
      onSubmit={(event) => {
        event.preventDefault();
        void change(() => unwrap(api.POST("/api/people/{person_id}/erasure", { params: { path }, body: { why } })));
      }}
    >
      <h3>Erase them for good?</h3>
      <p>
        Name, number, contact and face measures go; so do {found.signatures} signatures, {found.papers} papers and{" "}
        {found.on_file} entries on file, and what was typed at the bench in {found.words} places. Their name goes from
        crews and messages too. {found.visits} visits stay as logs without a name. Backups made before keep them until
        they are deleted.
      </p>
      {found.words_kept > 0 && (
        <p>
          {found.words_kept} entries are from before such words could be taken out. They keep them: read those visits
          first.
        </p>
      )}
      <div className="field-row">
        <Text label="Who asked for it, or which period is over; no name" value={why} set={setWhy} required w={420} />
        <button type="submit" className="act">
          Erase for good
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}
