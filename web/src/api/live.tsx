import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, useContext, useEffect, useMemo, useState, useSyncExternalStore, type ReactNode } from "react";
import { touches } from "../pages";
import { client, countUnsent, got, watchUnsent } from "./client";
import { live, pastAt, watchPast } from "./past";
import { root } from "./root";

type Live = { since: Date | null };
const LiveContext = createContext<Live>({ since: null });
export const useLive = () => useContext(LiveContext);

/** useUnsent is the number of requests that wait to be sent again. */
export const useUnsent = () => useSyncExternalStore(watchUnsent, countUnsent);

/** LiveProvider keeps the shown data up to date, and knows since when it may be old. */
export function LiveProvider({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const [since, setSince] = useState<Date | null>(null);
  useEffect(() => {
    let timer = 0;
    let due = Infinity;
    const old = new Set<string>();
    let stream: EventSource;
    const listen = () => {
      stream = new EventSource(`${root}/api/v1/events`);
      stream.onopen = () => {
        setSince((was) => {
          if (was) void queries.invalidateQueries();
          return null;
        });
      };
      stream.onerror = () => setSince((was) => was ?? new Date());
      for (const kind of Object.keys(touches) as (keyof typeof touches)[]) {
        stream.addEventListener(kind, () => {
          touches[kind]?.forEach((q) => old.add(q));
          // A burst of events causes one refresh: immediately for what a person waits for, later for the rest.
          const wait = kind === "alarm" ? 0 : ["host", "drive", "pool", "recovery"].includes(kind) ? 1500 : 250;
          const at = Date.now() + wait;
          if (timer && due <= at) return;
          clearTimeout(timer);
          due = at;
          timer = window.setTimeout(() => {
            timer = 0;
            // What was known earlier does not change.
            const moved = (key: readonly unknown[]) => old.has(String(key[0])) && (!pastAt() || key[1] === "live");
            void queries.invalidateQueries({ predicate: (q) => moved(q.queryKey) });
            old.clear();
          }, wait);
        });
      }
    };
    listen();
    // A page that is only kept for "back" must not hold one of the browser's few connections.
    const leave = () => stream.close();
    const back = (e: PageTransitionEvent) => {
      if (!e.persisted) return;
      listen();
      void queries.invalidateQueries();
    };
    window.addEventListener("pagehide", leave);
    window.addEventListener("pageshow", back);
    return () => {
      clearTimeout(timer);
      window.removeEventListener("pagehide", leave);
      window.removeEventListener("pageshow", back);
      stream.close();
    };
  }, [queries]);
  return <LiveContext.Provider value={{ since }}>{children}</LiveContext.Provider>;
}

export const useMe = () => useQuery({ queryKey: ["me"], queryFn: () => got(client.GET("/me")), staleTime: 60_000 });

export const useRound = () => useQuery({ queryKey: ["round"], queryFn: () => got(client.GET("/round")) });

/** useLiveRound is the round of now, whatever moment is looked at: what must be put back at once is always said. */
export function useLiveRound() {
  const past = useSyncExternalStore(watchPast, pastAt);
  return useQuery({
    queryKey: past ? ["round", "live"] : ["round"],
    queryFn: () => got(client.GET("/round", past ? live : {})),
  });
}

/** What the service said its time was, when it said so, and how fast its time runs. */
type Basis = { told: number; received: number; speed: number };
let basis: Basis | null = null;
const listening = new Set<() => void>();
let ticking: ReturnType<typeof setInterval> | undefined;
let shown = 0;

function read() {
  const past = pastAt();
  if (past) return Date.parse(past);
  return basis ? basis.told + (Date.now() - basis.received) * basis.speed : Date.now();
}

function tick() {
  shown = read();
  for (const f of listening) f();
}

/** watchNow calls back each second: one clock for all that shows a time. */
function watchNow(f: () => void) {
  if (listening.size === 0) {
    shown = read();
    ticking = setInterval(tick, 1000);
  }
  listening.add(f);
  return () => {
    listening.delete(f);
    if (listening.size === 0) clearInterval(ticking);
  };
}

/** useClock keeps the service's time: in a lab it runs apart from the browser's, and faster. The frame calls it. */
export function useClock() {
  const past = useSyncExternalStore(watchPast, pastAt);
  const me = useMe();
  const isLab = me.data?.lab ?? false;
  const lab = useQuery({
    queryKey: ["lab"],
    queryFn: () => got(client.GET("/lab")),
    enabled: isLab,
    refetchInterval: 60_000,
  });
  const told = isLab ? lab.data?.now : me.data?.now;
  const received = isLab ? lab.dataUpdatedAt : me.dataUpdatedAt;
  const speed = isLab ? (lab.data?.speed ?? 1) : 1;
  useEffect(() => {
    basis = told ? { told: Date.parse(told), received, speed } : null;
    tick();
  }, [told, received, speed, past]);
}

/** useNow is the service's time, rounded down to a step. Components that use it are drawn once per step. */
export function useNow(step = 1000): Date {
  const at = useSyncExternalStore(watchNow, () => Math.floor((shown || (shown = read())) / step) * step);
  return useMemo(() => new Date(at), [at]);
}
