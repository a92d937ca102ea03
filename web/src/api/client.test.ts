import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

type Client = typeof import("./client");

let api: Client;
const answers: (() => Promise<Response>)[] = [];
const sent: Request[] = [];

beforeEach(async () => {
  vi.useFakeTimers();
  vi.resetModules();
  answers.length = sent.length = 0;
  vi.stubGlobal("window", { addEventListener: () => {}, removeEventListener: () => {}, onbeforeunload: null });
  vi.stubGlobal("location", { pathname: "/swaps/7", search: "?a=b", assign: vi.fn(), origin: "http://lantern.test" });
  vi.stubGlobal("fetch", (request: Request) => {
    sent.push(request);
    return (answers.shift() ?? (() => Promise.reject(new TypeError("no connection"))))();
  });
  // The client sends to the page's own origin.
  const plain = globalThis.Request;
  vi.stubGlobal(
    "Request",
    class extends plain {
      constructor(input: RequestInfo | URL, init?: RequestInit) {
        super(typeof input === "string" && input.startsWith("/") ? "http://lantern.test" + input : input, init);
      }
    },
  );
  api = await import("./client");
});
afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const json =
  (status: number, body: unknown, type = "application/json") =>
  () =>
    Promise.resolve(new Response(JSON.stringify(body), { status, headers: { "Content-Type": type } }));
const refuse = json(
  409,
  { type: "led", title: "Somebody else leads it.", detail: "Ask them.", status: 409 },
  "application/problem+json",
);
const say = () => api.got(api.client.DELETE("/lights/{id}", { params: { path: { id: "x" }, ...api.once() } } as never));

describe("a change", () => {
  it("is sent again with the same key until an answer comes, and is counted meanwhile", async () => {
    answers.push(() => Promise.reject(new TypeError("lost")), json(503, {}), json(200, { id: "x" }));
    const seen: number[] = [];
    api.watchUnsent(() => seen.push(api.countUnsent()));
    const done = say();
    await vi.advanceTimersByTimeAsync(10_000);
    await expect(done).resolves.toEqual({ id: "x" });
    expect(sent).toHaveLength(3);
    expect(new Set(sent.map((r) => r.headers.get("Idempotency-Key"))).size).toBe(1);
    expect(seen).toEqual([1, 0]);
  });
  it("is given up after three minutes, and says so", async () => {
    const done = say();
    const failed = expect(done).rejects.toThrow("may or may not be done");
    await vi.advanceTimersByTimeAsync(200_000);
    await failed;
    expect(api.countUnsent()).toBe(0);
    expect(sent.length).toBeGreaterThan(20);
  });
  it("is not sent again when the service itself refuses it", async () => {
    answers.push(refuse);
    await expect(say()).rejects.toThrow("Somebody else leads it. Ask them.");
    expect(sent).toHaveLength(1);
  });
  it("of the service's own 503 is an answer", async () => {
    answers.push(json(503, { type: "starting", title: "It is starting.", status: 503 }, "application/problem+json"));
    await expect(say()).rejects.toThrow("It is starting.");
    expect(sent).toHaveLength(1);
  });
});

describe("a question", () => {
  it("is asked once: who asks again is the cache", async () => {
    await expect(api.got(api.client.GET("/round"))).rejects.toThrow("no connection");
    expect(sent).toHaveLength(1);
  });
  it("without a session leads to the sign-in, and back to the page", async () => {
    answers.push(json(401, { type: "no-session", title: "Sign in first.", status: 401 }, "application/problem+json"));
    await expect(api.got(api.client.GET("/round"))).rejects.toThrow("Sign in first.");
    expect(location.assign).toHaveBeenCalledWith("/sign-in?to=%2Fswaps%2F7%3Fa%3Db");
  });
  it("whose session ended under the page waits until somebody has signed in again", async () => {
    answers.push(json(200, { hosts: 1 }));
    await api.got(api.client.GET("/round"));
    const refused = json(401, { type: "no-session", title: "Sign in first.", status: 401 }, "application/problem+json");
    answers.push(refused, refused, json(200, { id: "7" }), json(200, { hosts: 2 }));
    const change = api.got(
      api.client.POST("/swaps", { params: { header: { "Idempotency-Key": "k" } }, body: { drive: "ZU006" } }),
    );
    const question = api.got(api.client.GET("/round"));
    await vi.advanceTimersByTimeAsync(60_000);
    expect(api.signedOut()).toBe(true);
    expect(location.assign).not.toHaveBeenCalled();
    const before = sent.length;
    await vi.advanceTimersByTimeAsync(60_000);
    expect(sent).toHaveLength(before);
    api.resume();
    await expect(change).resolves.toEqual({ id: "7" });
    await expect(question).resolves.toEqual({ hosts: 2 });
    expect(sent.filter((r) => r.headers.get("Idempotency-Key") === "k")).toHaveLength(2);
    expect(api.signedOut()).toBe(false);
  });
  it("refused for the session before, after somebody has signed in again, is sent again", async () => {
    answers.push(json(200, { hosts: 1 }));
    await api.got(api.client.GET("/round"));
    const refused = json(401, { type: "no-session", title: "Sign in first.", status: 401 }, "application/problem+json");
    let late = () => {};
    answers.push(refused, () => new Promise((come) => (late = () => void refused().then(come))));
    answers.push(json(200, { hosts: 2 }), json(200, { hosts: 3 }));
    const first = api.got(api.client.GET("/round"));
    const second = api.got(api.client.GET("/round"));
    await vi.advanceTimersByTimeAsync(1000);
    expect(api.signedOut()).toBe(true);
    api.resume();
    await expect(first).resolves.toEqual({ hosts: 2 });
    late();
    await expect(second).resolves.toEqual({ hosts: 3 });
    expect(api.signedOut()).toBe(false);
  });
  it("answered without words says the status", async () => {
    answers.push(() => Promise.resolve(new Response("oops", { status: 500 })));
    await expect(api.got(api.client.GET("/round"))).rejects.toThrow("The service answered 500.");
  });
});
