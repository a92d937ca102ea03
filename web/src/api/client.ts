import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";
import { asOf } from "./past";
import { go, here, root } from "./root";

export type S = components["schemas"];
export type Verdict = S["Verdict"];

/** The number of requests that wait because the service was not reached, and the callbacks for changes of it. */
let unsent = 0;
const watchers = new Set<() => void>();
export const watchUnsent = (f: () => void) => (watchers.add(f), () => void watchers.delete(f));
export const countUnsent = () => unsent;
function count(n: number) {
  unsent += n;
  // Leaving the page would lose these requests, so the browser asks first.
  window.onbeforeunload = unsent > 0 ? (e) => e.preventDefault() : null;
  watchers.forEach((f) => f());
}

/** Whether the session has ended while a page is open; requests wait until somebody signs in again. */
let ended = false,
  known = false,
  signIns = 0,
  waiting: (() => void)[] = [];
const endWatchers = new Set<() => void>();
export const watchSignedOut = (f: () => void) => (endWatchers.add(f), () => void endWatchers.delete(f));
export const signedOut = () => ended;
function end() {
  ended = true;
  endWatchers.forEach((f) => f());
}
/** resume lets all that waited go on, after the same person has signed in again. */
export function resume() {
  ended = false;
  signIns++;
  endWatchers.forEach((f) => f());
  waiting.forEach((go) => go());
  waiting = [];
}

/** Since when what is shown was kept for want of a network; empty while the service answers. */
let keptAt = "";
const keptWatchers = new Set<() => void>();
export const watchKept = (f: () => void) => (keptWatchers.add(f), () => void keptWatchers.delete(f));
export const keptSince = () => keptAt;
function kept(answer: Response) {
  const at = answer.headers.get("X-Kept-At") ?? "";
  const next = at === "" ? "" : keptAt === "" || at < keptAt ? at : keptAt;
  if (next === keptAt) return;
  keptAt = next;
  keptWatchers.forEach((f) => f());
}

/**
 * How long a change is sent again before it is given up, how long one try may take, and the rests between two, in ms.
 * A change that holds only for the state that it was said for (If-Match) may wait for a network much longer: when the
 * state is another by then, the service refuses it.
 */
const patience = 180_000,
  longPatience = 12 * 3_600_000,
  limit = 30_000,
  rest = { first: 300, most: 4000 };

/** Never reached means that no answer of the service itself came: none, or one of a proxy in front of it. */
const gateways = [502, 503, 504];
const unreached = (r: Response) =>
  gateways.includes(r.status) && !r.headers.get("Content-Type")?.includes("problem+json");

/**
 * patient sends a change that carries a key of its own until an answer comes: where a connection is lost, nobody knows
 * whether it arrived, and the key makes it happen once however often it is.
 */
async function patient(request: Request): Promise<Response> {
  if (!request.headers.has("Idempotency-Key")) return fetch(request);
  const until = Date.now() + (request.headers.has("If-Match") ? longPatience : patience);
  let counted = false;
  try {
    for (let pause = rest.first; ; pause = Math.min(2 * pause, rest.most)) {
      try {
        const answer = await fetch(request.clone(), { signal: AbortSignal.timeout(limit) });
        if (!unreached(answer)) return answer;
      } catch {
        // no answer: lost on the way there, or on the way back
      }
      if (Date.now() > until)
        throw new Error(
          "The service did not answer, so this may or may not be done. " +
            "When the connection is back, check before you do it again.",
        );
      if (!counted) count(1);
      counted = true;
      await new Promise<void>((go) => {
        const end = () => (clearTimeout(timer), window.removeEventListener("online", end), go());
        const timer = setTimeout(end, pause);
        window.addEventListener("online", end);
      });
    }
  } finally {
    if (counted) count(-1);
  }
}

/**
 * loyal sends a request again when somebody has signed in anew, if the session ended under an open page. Nothing was
 * done of it before: whoever is not signed in is refused first of all.
 */
async function loyal(asked: Request): Promise<Response> {
  const request = asOf(asked, "/api/v1");
  for (;;) {
    const sentAfter = signIns;
    const answer = await patient(request.clone());
    if (answer.status !== 401) {
      known ||= answer.ok;
      if (request.method === "GET") kept(answer);
      return answer;
    }
    if (here() === "/sign-in" || request.url.endsWith("/session")) return answer;
    if (!known) {
      go(`/sign-in?to=${encodeURIComponent(here() + location.search)}`);
      return answer;
    }
    // Somebody signed in after this request was sent, so the answer is about the session before.
    if (sentAfter !== signIns) continue;
    end();
    await new Promise<void>((go) => waiting.push(go));
  }
}

export const client = createClient<paths>({ baseUrl: `${root}/api/v1`, fetch: loyal });

/** A problem the service told of: what is wrong and what to do. */
export class Told extends Error {
  constructor(readonly problem: Omit<S["Problem"], "type"> & { type: S["ProblemType"] | "unknown" }) {
    super(problem.detail ? `${problem.title} ${problem.detail}` : problem.title);
  }
}

/** got gives what an answer holds, or throws what it tells. */
export async function got<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer;
  if (response.ok) return data as T;
  const problem = error as S["Problem"] | undefined;
  throw new Told(
    problem?.title
      ? problem
      : { type: "unknown", title: `The service answered ${response.status}.`, status: response.status },
  );
}

/** Every change is sent with a key of its own, so that one sent twice is done once. */
export const once = () => ({ header: { "Idempotency-Key": crypto.randomUUID?.() ?? String(Math.random()).slice(2) } });
