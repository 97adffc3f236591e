import { useEffect, useState } from "react";
import { api, unwrap } from "@/shared/client";
import { useKeys } from "@/shared/keys";

/** Opens the wearer's screen in a window of its own, and says its address for a tablet. */
export function WearerLink({ visitId }: { visitId: string }) {
  const [address, setAddress] = useState("");
  const [problem, setProblem] = useState("");
  useEffect(() => {
    if (!address) return;
    const timer = window.setTimeout(() => setAddress(""), 20_000);
    return () => window.clearTimeout(timer);
  }, [address]);
  const open = async () => {
    setProblem("");
    const other = window.open("", `wearer-${visitId}`);
    try {
      const { path } = await unwrap(
        api.POST("/api/visits/{visit_id}/wearer", { params: { path: { visit_id: visitId } } }),
      );
      setAddress(`${window.location.origin}${path}`);
      if (other) other.location.href = path;
    } catch (error) {
      other?.close();
      setProblem(error instanceof Error ? error.message : "The address was not made.");
    }
  };
  useKeys({ g: () => void open() });
  return (
    <span className="wearer-link">
      <button type="button" className="quiet" aria-keyshortcuts="G" onClick={() => void open()}>
        Wearer’s screen <kbd>G</kbd>
      </button>
      {address && <b className="mono">{address.replace(/^https?:\/\//, "")}</b>}
      {problem && (
        <span className="rust" role="alert">
          {problem}
        </span>
      )}
    </span>
  );
}
