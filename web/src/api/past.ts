/** The earlier moment that is shown, as RFC 3339; empty for now. It is kept for the tab. */
const kept = "past";
let at = "";
try {
  at = sessionStorage.getItem(kept) ?? "";
} catch {
  // not kept: a reload shows now
}
const watchers = new Set<() => void>();
export const watchPast = (f: () => void) => (watchers.add(f), () => void watchers.delete(f));
export const pastAt = () => at;

/** lookAt shows the state at a moment, or the present one if it is empty. */
export function lookAt(moment: string) {
  at = moment;
  try {
    if (at) sessionStorage.setItem(kept, at);
    else sessionStorage.removeItem(kept);
  } catch {
    // it holds for this page only
  }
  watchers.forEach((f) => f());
}

/** What is always asked of now: who looks, how time runs, and what must be put back at once. */
const ofNow = ["/me", "/lab", "/session", "/ready"];

/** live marks a request that is asked of now, whatever moment is looked at. */
export const live = { headers: { "Lantern-Live": "1" } };

/** asOf is a request as of the moment that is looked at. Nothing can be changed there. */
export function asOf(request: Request, base: string): Request {
  const url = new URL(request.url);
  const path = url.pathname.slice(url.pathname.indexOf(base) + base.length);
  if (!at || request.headers.has("Lantern-Live") || ofNow.includes(path)) return request;
  if (request.method !== "GET")
    throw new Error("This is an earlier state: nothing can be changed. Go back to now first.");
  url.searchParams.set("at", at);
  return new Request(url, request);
}
