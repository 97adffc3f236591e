import { Checkbox } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { Problem } from "@/design/Fields";

/** Whose a piece of kit is and who else may use it; looked up when it is opened. */
export function Lending({ kit, name }: { kit: string; name: string }) {
  const [isOpen, setOpen] = useState(false);
  return (
    <details className="lending" onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary aria-label={`Who uses it: ${name}`}>Who uses it</summary>
      {isOpen && <Borrowers kit={kit} name={name} />}
    </details>
  );
}

function Borrowers({ kit, name }: { kit: string; name: string }) {
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("It stays as it was.");
  const path = { kit_id: kit };
  const shown = useQuery({
    queryKey: keys.lending(kit),
    queryFn: () => unwrap(api.GET("/api/kit/{kit_id}/lending", { params: { path } })),
  }).data;
  if (!shown) return null;
  const lend = (one: Schemas["Borrower"], has: boolean) =>
    attempt(async () => {
      const employers = shown.borrowers
        .filter((each) => (each.id === one.id ? has : each.has_it))
        .map((each) => each.id);
      const now = await unwrap(api.PUT("/api/kit/{kit_id}/lending", { params: { path }, body: { employers } }));
      queries.setQueryData(keys.lending(kit), now);
    });
  const borrowers = shown.borrowers.filter((one) => one.has_it).map((one) => one.name);
  return (
    <>
      <p>
        {shown.owner ? `It is ${shown.owner}’s` : "It belongs to no employer"}
        {borrowers.length ? `, lent to ${borrowers.join(", ")}` : ""}
        {shown.others ? `, and to ${shown.others} more that you do not work for` : ""}.
      </p>
      {shown.may_change && shown.borrowers.length > 0 && (
        <fieldset>
          <legend>Lend {name} to</legend>
          {shown.borrowers.map((one) => (
            <Checkbox
              key={one.id}
              label={one.name}
              checked={one.has_it}
              onChange={(event) => void lend(one, event.currentTarget.checked)}
            />
          ))}
        </fieldset>
      )}
      <Problem words={problem} />
    </>
  );
}
