import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

export type S = components["schemas"];
export type Verdict = S["Verdict"];

export const client = createClient<paths>({ baseUrl: "/api/v1" });

/** A problem the service told of: what is wrong and what to do. */
export class Told extends Error {
  constructor(readonly problem: S["Problem"]) {
    super(problem.detail ? `${problem.title} ${problem.detail}` : problem.title);
  }
}

/** got gives what an answer holds, or throws what it tells. */
export async function got<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer;
  if (response.ok) return data as T;
  const problem = error as S["Problem"] | undefined;
  if (response.status === 401 && location.pathname !== "/sign-in") location.assign("/sign-in");
  throw new Told(problem?.title ? problem : { type: "unknown", title: `The service answered ${response.status}.`, status: response.status });
}

/** Every change is sent with a key of its own, so that one sent twice is done once. */
export const once = () => ({ header: { "Idempotency-Key": crypto.randomUUID?.() ?? String(Math.random()).slice(2) } });
