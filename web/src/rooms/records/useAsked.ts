import { useSearchParams } from "react-router";

const NAMES = ["person", "model", "kit", "tester", "site", "size", "since", "until", "outcome"] as const;
const KEPT = [...NAMES, "view", "personWords", "modelWords", "kitWords", "testerWords", "siteWords"] as const;
export type Asked = Record<(typeof KEPT)[number], string>;

/** What is asked for, in the address: a view that is sent on opens as it was. */
export function useAsked() {
  const [params, setParams] = useSearchParams();
  const asked = Object.fromEntries(KEPT.map((one) => [one, params.get(one) ?? ""])) as Asked;
  const ask = (change: Partial<Asked>) => {
    const next = { ...asked, ...change };
    setParams(Object.fromEntries(Object.entries(next).filter(([, value]) => value)));
  };
  const said = Object.fromEntries(NAMES.filter((one) => asked[one]).map((one) => [one, asked[one]]));
  const named = [asked.personWords, asked.modelWords, asked.size, asked.kitWords, asked.testerWords, asked.outcome];
  return { asked, ask, said, words: named.filter(Boolean).join(", ") };
}
