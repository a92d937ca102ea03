// Keeps what is needed at the rack when there is no network: the console itself, and the newest answers about the
// round, swaps, bays, pools, drives and hosts, each with the time at which it came. While the service answers, its
// answer is shown and nothing else.
const root = new URL(self.registration.scope).pathname.replace(/\/$/, "");
const shell = "shell-1",
  answers = "answers-1";
const kept = /^\/api\/v1\/(me|lab|round|pools|hosts|recoveries|lights|swaps|drives|campaigns|stock)(\/|$)/;
const own = /^\/(assets\/|icon\.svg|theme\.js|manifest\.webmanifest)/;

self.addEventListener("install", (e) => {
  e.waitUntil(caches.open(shell).then((c) => c.addAll([`${root}/`, `${root}/theme.js`, `${root}/icon.svg`])));
  self.skipWaiting();
});
self.addEventListener("activate", (e) => e.waitUntil(self.clients.claim()));

// Of another person nothing may be seen: with the session goes what was kept.
const forget = () => caches.delete(answers);

async function fresh(request, name, key) {
  const c = await caches.open(name);
  try {
    const answer = await fetch(request);
    if (answer.status === 401) await forget();
    if (answer.ok && answer.status === 200) {
      const headers = new Headers(answer.headers);
      headers.set("X-Kept-At", new Date().toISOString());
      const copy = answer.clone();
      await c.put(key, new Response(await copy.blob(), { status: 200, headers }));
    }
    return answer;
  } catch (error) {
    const was = await c.match(key);
    if (was) return was;
    throw error;
  }
}

async function asset(request) {
  const c = await caches.open(shell);
  const was = await c.match(request);
  if (was) return was;
  const answer = await fetch(request);
  if (answer.ok) await c.put(request, answer.clone());
  return answer;
}

self.addEventListener("fetch", (e) => {
  const url = new URL(e.request.url);
  if (url.origin !== location.origin || !url.pathname.startsWith(root)) return;
  const path = url.pathname.slice(root.length);
  if (path === "/api/v1/session") {
    e.waitUntil(forget());
    return;
  }
  if (e.request.method !== "GET" || path === "/api/v1/events") return;
  if (e.request.mode === "navigate") {
    if (path.startsWith("/sign-in/")) return;
    e.respondWith(fresh(e.request, shell, `${root}/`));
  } else if (path.startsWith("/assets/")) e.respondWith(asset(e.request));
  else if (own.test(path)) e.respondWith(fresh(e.request, shell, url.pathname));
  else if (kept.test(path)) e.respondWith(fresh(e.request, answers, url.pathname + url.search));
});
