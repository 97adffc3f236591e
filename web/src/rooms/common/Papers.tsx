import { useState } from "react";
import { api, type Schemas, unwrap } from "@/shared/client";
import { useKeys } from "@/shared/keys";
import { seesHealth, useSession } from "@/shared/session";

type Paper = Schemas["IssueReport"];
interface Sort {
  label: string;
  body: Paper;
  /** Only of a pass that holds. */
  needsPass?: boolean;
  /** Not of a practice. */
  isReal?: boolean;
  /** Says nothing of a clearance: anybody may print it. */
  isOpen?: boolean;
  cap?: string;
}
const ON_LETTER_PAPER = new Set<string | undefined>(["US", "CA", "MX"]);
const usual = ON_LETTER_PAPER.has(new Intl.Locale(navigator.language).region) ? "Letter" : "A4";
const other = usual === "A4" ? "Letter" : "A4";
const NAMES = { A4: "A4", Letter: "US paper" };
const PAPERS: Sort[] = [
  { label: "Card", body: { paper: "card", page_size: "A4" }, needsPass: true, isReal: true, isOpen: true, cap: "C" },
  { label: "Letter to the worker", body: { paper: "letter", page_size: usual }, isReal: true, cap: "B" },
  { label: `Letter to the worker, ${NAMES[other]}`, body: { paper: "letter", page_size: other }, isReal: true },
  { label: "Report, A4", body: { paper: "report", page_size: "A4" } },
  { label: "Report, Letter", body: { paper: "report", page_size: "Letter" } },
];

interface Props {
  visitId: string;
  passed: boolean;
  isReal: boolean;
  /** What is given into the hand only: card and letter. */
  isShort?: boolean;
}

/** The papers of a signed visit, each a key: what they take with them first. */
export function Papers({ visitId, passed, isReal, isShort = false }: Props) {
  const [problem, setProblem] = useState("");
  const [busy, setBusy] = useState("");
  const [sent, setSent] = useState("");
  const session = useSession().data;
  const hasMail = session?.has_mail ?? false;
  const mail = async (paper: Paper["paper"]) => {
    setProblem("");
    setSent("");
    try {
      const path = { visit_id: visitId };
      const body = { paper: paper ?? "letter", page_size: usual } as const;
      const { to } = await unwrap(api.POST("/api/visits/{visit_id}/mail", { params: { path }, body }));
      setSent(`It goes to ${to}. What became of it stands in the outbox.`);
    } catch (error) {
      setProblem(error instanceof Error ? error.message : "It was not sent.");
    }
  };
  const issue = async ({ label, body }: Sort) => {
    setProblem("");
    setBusy(label);
    const tab = window.open("", "_blank");
    try {
      const path = { visit_id: visitId };
      const { url } = await unwrap(api.POST("/api/visits/{visit_id}/reports", { params: { path }, body }));
      if (tab) tab.location.href = url;
      else window.location.assign(url);
    } catch (error) {
      tab?.close();
      setProblem(error instanceof Error ? error.message : "The paper did not come.");
    } finally {
      setBusy("");
    }
  };
  const offered = PAPERS.filter(
    (one) =>
      (passed || !one.needsPass) &&
      (isReal || !one.isReal) &&
      (seesHealth(session) || one.isOpen) &&
      (!isShort || one.cap !== undefined),
  );
  const keyed = offered.filter((one) => one.cap && busy === "");
  useKeys(Object.fromEntries(keyed.map((one) => [one.cap?.toLowerCase() ?? "", () => void issue(one)])));
  return (
    <div className="field-row" role="group" aria-label="Papers">
      {offered.map((one) => (
        <button
          key={one.label}
          className={one.body.paper === "card" || !passed ? "act" : "quiet"}
          type="button"
          aria-keyshortcuts={one.cap}
          disabled={busy !== ""}
          onClick={() => void issue(one)}
        >
          {one.cap && <kbd>{one.cap}</kbd>} {busy === one.label ? "It is being set…" : one.label}
        </button>
      ))}
      {hasMail && isReal && (
        <button type="button" className="quiet" onClick={() => void mail(passed ? "card" : "letter")}>
          {passed ? "Card by e-mail" : "Letter by e-mail"}
        </button>
      )}
      {sent && <span role="status">{sent}</span>}
      {problem && (
        <span className="rust" role="alert">
          {problem}
        </span>
      )}
    </div>
  );
}
