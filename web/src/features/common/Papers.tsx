import { useState } from "react";
import { api, type Schemas, unwrap } from "@/shared/client";
import { useSession } from "@/shared/session";

type Paper = Schemas["IssueReport"];
/** ``needsPass``: only of a pass that holds; ``isReal``: not of a practice. */
const PAPERS: { label: string; body: Paper; needsPass?: boolean; isReal?: boolean }[] = [
  { label: "Card", body: { paper: "card", page_size: "A4" }, needsPass: true, isReal: true },
  { label: "Letter to the worker, A4", body: { paper: "letter", page_size: "A4" }, isReal: true },
  { label: "Letter to the worker, US paper", body: { paper: "letter", page_size: "Letter" }, isReal: true },
  { label: "Report, A4", body: { paper: "report", page_size: "A4" } },
  { label: "Report, Letter", body: { paper: "report", page_size: "Letter" } },
];

/** The papers of a signed visit, each a key: what they take with them first. */
export function Papers({ visitId, passed, isReal }: { visitId: string; passed: boolean; isReal: boolean }) {
  const [problem, setProblem] = useState("");
  const [busy, setBusy] = useState("");
  const [sent, setSent] = useState("");
  const hasMail = useSession().data?.has_mail ?? false;
  const mail = async (paper: Paper["paper"]) => {
    setProblem("");
    setSent("");
    try {
      const path = { visit_id: visitId };
      const body = { paper: paper ?? "letter", page_size: "A4" } as const;
      const { to } = await unwrap(api.POST("/api/visits/{visit_id}/mail", { params: { path }, body }));
      setSent(`It goes to ${to}. What became of it stands in the outbox.`);
    } catch (error) {
      setProblem(error instanceof Error ? error.message : "It was not sent.");
    }
  };
  const issue = async (label: string, body: Paper) => {
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
  return (
    <div className="field-row" role="group" aria-label="Papers">
      {PAPERS.filter((one) => (passed || !one.needsPass) && (isReal || !one.isReal)).map(({ label, body }) => (
        <button
          key={label}
          className={body.paper === "card" || !passed ? "act" : "quiet"}
          type="button"
          disabled={busy !== ""}
          onClick={() => void issue(label, body)}
        >
          {busy === label ? "It is being set…" : label}
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
