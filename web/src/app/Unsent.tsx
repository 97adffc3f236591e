import "./Unsent.css";
import { Modal } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { keys } from "@/shared/client";
import { keptByVisit } from "@/shared/outbox";

/** How many presses this device keeps, by visit; counted again every few seconds. */
export function useUnsent() {
  return useQuery({ queryKey: keys.unsent, queryFn: keptByVisit, refetchInterval: 5000, retry: false });
}

const answers = (count: number) => `${count} ${count === 1 ? "answer has" : "answers have"} not reached the server`;

/** Answers kept on this device go out from their visit's page: say where that is. */
export function UnsentNote() {
  const unsent = useUnsent();
  const visits = [...(unsent.data ?? [])];
  if (!visits.length) return null;
  return (
    <aside className="note unsent" aria-label="Not sent yet">
      {visits.map(([visit, count]) => (
        <p key={visit}>
          {answers(count)}. <Link to={`/visit/${visit}`}>Open the visit</Link> to send.
        </p>
      ))}
    </aside>
  );
}

/** Asked before signing out while answers are kept here. */
export function SignOutAnyway({ count, stay, go }: { count: number; stay: () => void; go: () => void }) {
  return (
    <Modal.Root opened onClose={stay} centered size="lg" transitionProps={{ duration: 0 }}>
      <Modal.Overlay transitionProps={{ duration: 0 }} />
      <Modal.Content className="unsent-asked" aria-label="Not sent yet">
        <Modal.Body>
          <h2>{answers(count)}.</h2>
          <p>
            {count === 1 ? "It stays" : "They stay"} on this device, and {count === 1 ? "goes" : "go"} out when you sign
            in here again and open the visit.
          </p>
          <p>
            <button type="button" className="act" onClick={stay} data-autofocus>
              Stay signed in
            </button>{" "}
            <button type="button" className="quiet" onClick={go}>
              Sign out, keep {count === 1 ? "it" : "them"} here
            </button>
          </p>
        </Modal.Body>
      </Modal.Content>
    </Modal.Root>
  );
}
