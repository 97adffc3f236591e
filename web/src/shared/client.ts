import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "@/shared/schema";

export type Schemas = components["schemas"];
export type BenchView = Schemas["BenchView"];
export type VisitView = Schemas["VisitView"];
export type Card = Schemas["Card"];
export type Body = Schemas["Proposal"]["body"];

/** An error of the API in its one shape; status 0 means that the server was not reached. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly detail: Record<string, unknown> = {},
  ) {
    super(message);
  }
}

/**
 * Whether an answer is the program's own "no" to what was sent. Anything else, such as a server that is away, a proxy's
 * page or a sign-in that has run out, leaves what was pressed to be sent again.
 */
export function isRefusal(error: unknown): error is ApiError {
  if (!(error instanceof ApiError) || error.status < 400 || error.status >= 500) return false;
  return ![401, 408, 429].includes(error.status) && !["unexpected", "token_missing"].includes(error.code);
}

let token = "";
export function setToken(value: string): void {
  token = value;
}

let touched = performance.now();
for (const kind of ["keydown", "pointerdown"]) {
  window.addEventListener(kind, () => (touched = performance.now()), { capture: true, passive: true });
}

/** Every request says for how long nobody has pressed or touched anything here: an empty chair signs nobody. */
const carryToken: Middleware = {
  onRequest({ request }) {
    request.headers.set("X-Moorfog-Idle", String(Math.max(0, Math.round((performance.now() - touched) / 1000))));
    if (request.method !== "GET") request.headers.set("X-Moorfog-Token", token);
    return request;
  },
};

export const api = createClient<paths>({ baseUrl: "" });
api.use(carryToken);

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** Unwrap an answer: its data, or an ApiError; also when the server was not reached at all. */
export async function unwrap<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new ApiError(0, "away", "The server does not answer. What you pressed is kept and sent again.");
  }
  if (answer.response.ok) return answer.data as T;
  const body = answer.error as Partial<Schemas["ErrorBody"]> | undefined;
  throw new ApiError(
    answer.response.status,
    body?.code ?? "unexpected",
    body?.message ?? `The server answered ${answer.response.status}.`,
    body?.detail ?? {},
  );
}

export const keys = {
  setup: ["setup"] as const,
  health: ["health"] as const,
  missing: ["missing"] as const,
  backups: ["backups"] as const,
  joining: (token: string) => ["joining", token] as const,
  account: ["account"] as const,
  accounts: (page: number) => ["accounts", page] as const,
  sessionsOf: (account: string) => ["accounts", "sessions", account] as const,
  places: (page: number) => ["places", page] as const,
  instruments: (page: number) => ["instruments", page] as const,
  instrumentFile: (id: string) => ["instruments", "file", id] as const,
  instrumentForms: ["instrument-forms"] as const,
  facepieceForms: ["facepiece-forms"] as const,
  journal: (asked: Record<string, string | number>) => ["journal", asked] as const,
  tokens: ["tokens"] as const,
  competence: (account: string) => ["competence", account] as const,
  twins: (person: string) => ["person", "twins", person] as const,
  session: ["session"] as const,
  unsent: ["unsent"] as const,
  today: ["today"] as const,
  todayAt: (pages: Record<string, number>) => ["today", pages] as const,
  siteWords: (site: string) => ["siteWords", site] as const,
  erasures: (site: string, page: number) => ["erasures", site, page] as const,
  erasure: (person: string) => ["erasures", "person", person] as const,
  code: (code: string) => ["code", code] as const,
  tomorrows: ["tomorrow"] as const,
  dues: ["due"] as const,
  tomorrow: (asked: Record<string, string>) => ["tomorrow", asked] as const,
  board: (asked: Record<string, string>) => ["tomorrow", "board", asked] as const,
  gate: (secret: string) => ["gate", secret] as const,
  mails: (page: number) => ["mails", page] as const,
  due: (asked: Record<string, string | number>) => ["due", asked] as const,
  visit: (id: string) => ["visit", id] as const,
  person: (id: string, page: number) => ["person", id, page] as const,
  people: (q: string, page: number) => ["people", q, page] as const,
  records: (asked: Record<string, string>) => ["records", asked] as const,
  suggestions: (q: string) => ["records", "suggestions", q] as const,
  wearers: (asked: Record<string, string>) => ["records", "wearers", asked] as const,
  results: (asked: Record<string, string | number>) => ["results", asked] as const,
  counted: (asked: Record<string, string | number>) => ["results", "people", asked] as const,
  counters: ["counters"] as const,
  countersAt: (page: number, kind: string, name: string) => ["counters", page, kind, name] as const,
  nebulisers: ["nebulisers"] as const,
  lots: (agent: string, page: number) => ["lots", agent, page] as const,
  recipes: (ml: string) => ["recipes", ml] as const,
  recallsAll: ["recalls"] as const,
  recalls: (page: number, onlyOpen: boolean) => ["recalls", page, onlyOpen] as const,
  recall: (id: string, page: number) => ["recall", id, page] as const,
  parts: (page: number) => ["parts", page] as const,
  partsFor: (visit: string, seq: number) => ["parts", "for", visit, seq] as const,
  lending: (kit: string) => ["lending", kit] as const,
  trend: (id: string, name: string) => ["trend", id, name] as const,
  siteProtocols: (site: string) => ["site-protocols", site] as const,
  job: (id: string) => ["job", id] as const,
  facepieces: ["facepieces"] as const,
  facepiecesAt: (q: string, page: number) => ["facepieces", "page", q, page] as const,
  facepiece: (version: string) => ["facepieces", "version", version] as const,
  choices: (visit: string, seq: number, q: string, page: number) => ["advice", "choices", visit, seq, q, page] as const,
  sites: ["sites"] as const,
  advice: (visit: string, seq: number) => ["advice", visit, seq] as const,
  rules: (site: string, book: string) => ["rules", site, book] as const,
  tasks: (site: string) => ["tasks", site] as const,
};
