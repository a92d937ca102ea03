import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ToggleGroup } from "radix-ui";
import { useEffect, useRef, useState, useSyncExternalStore, type ReactNode } from "react";
import { Link, NavLink, useLocation } from "react-router";
import { client, got, keptSince, watchKept } from "../api/client";
import { useLive, useLiveRound, useMe, useNow, useUnsent, useClock } from "../api/live";
import { linesAt, navigation } from "../pages";
import { Same } from "./command";
import { useDo } from "./do";
import { useAlarm } from "./attention";
import { Drafts } from "./draft";
import { useFocus } from "./focus";
import { clock, exact } from "./format";
import { Earlier, PastBar, TimeLine, useLook } from "./past";
import { pastAt } from "../api/past";
import { Keys } from "./keys";
import { AskReason } from "./reason";
import { Horizon } from "./horizon";
import { Search } from "./search";
import { To, under } from "./to";
import { Tour } from "../tour/tour";
import { root } from "../api/root";

/** wideScreen reports whether the head has room for more than the navigation. */
const wideScreen = window.matchMedia("(min-width: 90rem)");
const watchWide = (f: () => void) => {
  wideScreen.addEventListener("change", f);
  return () => wideScreen.removeEventListener("change", f);
};

export function Frame({ children }: { children: ReactNode }) {
  useClock();
  const { since } = useLive();
  const unsent = useUnsent();
  const old = useSyncExternalStore(watchKept, keptSince);
  // A drive that must be put back is shown on every page until it is back.
  const round = useLiveRound().data;
  const look = useLook();
  const me = useMe().data;
  const [line, setLine] = useState(() => pastAt() !== "");
  const alarms = round?.underway.filter((u) => u.alarm) ?? [];
  const at = useLocation().pathname;
  useAlarm(alarms.map((u) => `${u.site} ${u.id}`).join());
  const nav = useRef<HTMLElement>(null);
  const wide = useSyncExternalStore(watchWide, () => wideScreen.matches);
  useEffect(() => {
    window.scrollTo(0, 0);
    const pages = nav.current;
    if (!pages) return;
    // The name of the present page is in sight, also after the font has come or the width has changed.
    const show = () => {
      const name = pages.querySelector<HTMLElement>("[aria-current=page]");
      if (name) pages.scrollLeft = name.offsetLeft - pages.offsetLeft - 40;
    };
    const watch = new ResizeObserver(show);
    watch.observe(pages);
    for (const name of pages.children) watch.observe(name);
    return () => watch.disconnect();
  }, [at]);
  useFocus(at);
  return (
    <>
      <a href="#main" className="button main absolute left-2 top-2 z-50 -translate-y-24 focus:translate-y-0">
        Skip to the page
      </a>
      <Horizon />
      <header className="no-print border-b border-line">
        <div className="mx-auto flex max-w-7xl items-center gap-x-3 px-4 py-1 md:py-2 2xl:max-w-[96rem]">
          <Link
            to="/"
            aria-label="Brave Lantern, the round"
            className="flex shrink-0 items-center gap-2 font-semibold whitespace-nowrap"
          >
            <img src={`${root}/icon.svg`} alt="" width="26" height="26" />
            <span className="hidden 2xl:inline">Brave Lantern</span>
          </Link>
          {under && (
            <a
              href={`${under[1]}/`}
              aria-label={`All sites; this is ${under[2]}`}
              className="flex min-h-11 shrink-0 items-center gap-2 border-r border-line pr-3 font-semibold"
            >
              ‹ <span className="hidden md:inline">All sites</span> <span className="text-soft">{under[2]}</span>
            </a>
          )}
          <nav ref={nav} aria-label="Pages" className="flex min-w-0 grow overflow-x-auto">
            {navigation(me?.headquarters).map(({ to, name }) => (
              <NavLink
                key={to}
                to={to}
                end={to === "/"}
                className={({ isActive }) =>
                  [
                    "flex min-h-11 items-center px-2",
                    isActive ? "font-semibold text-ink underline decoration-2 underline-offset-8" : "text-soft",
                  ].join(" ")
                }
              >
                {name}
              </NavLink>
            ))}
          </nav>
          <div className="ml-auto flex shrink-0 items-center gap-2">
            <Search />
            <Keys />
            <Earlier open={line} toggle={() => setLine(!line)} />
            {wide && <Theme />}
          </div>
        </div>
      </header>
      <PastBar toNow={() => look("")} />
      {since && (
        <p role="status" className="border-b border-watch bg-watch-sheet px-4 py-2 text-center">
          The connection is lost since {clock(since)}.{" "}
          {old
            ? `What is shown was kept on this device; some of it is of ${exact(new Date(old))}.`
            : "What is shown may be old since then; it comes back by itself."}
        </p>
      )}
      {round?.trouble?.says && (
        <p
          role="alert"
          className={
            "border-b-2 px-4 py-2 text-center " +
            (round.trouble.severity === "watch"
              ? "border-watch bg-watch-sheet"
              : "border-replace bg-replace-sheet font-semibold")
          }
        >
          {round.trouble.says.charAt(0).toUpperCase() + round.trouble.says.slice(1)}. {round.trouble.do}
          {round.trouble.restored && <TakeOver />}
        </p>
      )}
      {unsent > 0 && (
        <p
          role="status"
          className={
            "no-print fixed inset-x-0 bottom-(--frame) z-40 border-t-2 border-watch " +
            "bg-watch-sheet px-4 py-4 text-center text-lg font-semibold"
          }
        >
          Your last action has no answer yet. It is sent again automatically, and done only once.
        </p>
      )}
      {alarms
        .filter((u) => u.site || at !== `/swaps/${u.id}`)
        .map((u) => (
          <div
            key={`${u.site} ${u.id}`}
            role="alert"
            className={
              "flex flex-wrap items-center justify-center gap-x-5 gap-y-2 border-y-4 " +
              "border-replace bg-replace-sheet px-4 py-4 text-xl font-semibold"
            }
          >
            <span>Stop. {u.alarm}</span>
            <To site={u.site} to={`/swaps/${u.id}`} className="button">
              Open the swap in {u.pool}
              {u.site && ` at ${u.site}`}
            </To>
          </div>
        ))}
      <main
        id="main"
        tabIndex={-1}
        className={`mx-auto px-4 pb-24 pt-6 outline-none ${/^\/bays/.test(at) ? "max-w-[150rem]" : "max-w-6xl"}`}
      >
        {children}
        {me && !me.headquarters && (
          <div className="mt-10">
            <Same key={at} lines={linesAt(at)} />
          </div>
        )}
        {!wide && (
          <p className="no-print mt-10">
            <Theme />
          </p>
        )}
      </main>
      {line && <TimeLine close={() => setLine(false)} />}
      <LabStrip />
      <Tour />
      <Drafts />
    </>
  );
}

function Theme() {
  const [theme, setTheme] = useState(() => document.documentElement.dataset.theme ?? "");
  const choose = (t: string) => {
    setTheme(t);
    if (t) document.documentElement.dataset.theme = t;
    else delete document.documentElement.dataset.theme;
    try {
      if (t) localStorage.setItem("theme", t);
      else localStorage.removeItem("theme");
    } catch {
      // not kept: the choice holds for this page only
    }
    window.dispatchEvent(new Event("themed"));
  };
  return (
    <ToggleGroup.Root
      type="single"
      value={theme}
      onValueChange={choose}
      aria-label="Theme"
      className="flex rounded-lg border border-line"
    >
      {[["night", "Night"] as const, ["paper", "Paper"] as const].map(([value, name]) => (
        <ToggleGroup.Item
          key={value}
          value={value}
          className="min-h-9 rounded-md px-2.5 text-sm text-soft data-[state=on]:bg-raised data-[state=on]:text-ink"
        >
          {name}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

/** useTheme makes drawings follow a change of theme. */
export function useTheme() {
  const [n, set] = useState(0);
  useEffect(() => {
    const again = () => set((x) => x + 1);
    window.addEventListener("themed", again);
    return () => window.removeEventListener("themed", again);
  }, []);
  return n;
}

/** LabStrip says that nothing here is real, and how fast time runs. */
function LabStrip() {
  const me = useMe();
  const now = useNow();
  const queries = useQueryClient();
  const lab = useQuery({
    queryKey: ["lab"],
    queryFn: () => got(client.GET("/lab")),
    enabled: !!me.data?.lab,
    refetchInterval: 60_000,
  });
  const set = useMutation({
    mutationFn: (to: { speed: number; hurry?: boolean }) => got(client.PUT("/lab/speed", { body: to })),
    onSuccess: (data) => queries.setQueryData(["lab"], data),
  });
  if (!me.data?.lab || !lab.data) return null;
  const copy = me.data.practice;
  const brisk = lab.data.hurry ?? 0;
  return (
    <footer className="no-print fixed inset-x-0 bottom-(--frame) z-30 border-t border-line bg-sheet">
      <div className="mx-auto flex max-w-6xl flex-wrap items-center gap-x-3 px-4 py-1 text-sm text-soft sm:gap-x-5 sm:py-1.5">
        <span className="font-semibold text-ink">
          {copy ? `Rehearsal: ${copy.pool} as of ${exact(new Date(copy.copied_at))}` : "Lab: nothing here is real"}
        </span>
        <span className="num">
          <span className="hidden sm:inline">time </span>
          {exact(now)}
        </span>
        <span className="ml-auto flex items-center gap-1">
          pace
          {copy && (
            <button
              aria-pressed={brisk > 0}
              title={`${brisk || 300}× while nothing but waiting is left, 1× while a hand is needed`}
              onClick={() => set.mutate({ speed: brisk || 300, hurry: true })}
              className={
                "min-h-9 rounded-md px-2.5 aria-pressed:bg-raised " + "aria-pressed:font-semibold aria-pressed:text-ink"
              }
            >
              by itself{brisk > 0 && `, ${lab.data.speed}×`}
            </button>
          )}
          {[1, 60, 300, 1200].map((s) => (
            <button
              key={s}
              aria-pressed={!brisk && lab.data.speed === s}
              onClick={() => set.mutate({ speed: s })}
              className={
                "num min-h-9 rounded-md px-2.5 aria-pressed:bg-raised " +
                "aria-pressed:font-semibold aria-pressed:text-ink"
              }
            >
              {s}×
            </button>
          ))}
        </span>
      </div>
    </footer>
  );
}

/** TakeOver is where a person says that the service is gone from whose backup this one was restored. */
function TakeOver() {
  const act = useDo("round");
  return (
    <span className="ml-4 inline-block">
      <AskReason
        title="Take over"
        ask="How do you know that the earlier service is gone?"
        go="It is gone: take over"
        onReason={(reason) =>
          act.mutate({
            ask: () => got(client.POST("/take-over", { body: { reason } })),
            says: "This service gives orders from now on.",
          })
        }
      >
        <p>
          If the earlier service still runs, both give orders to the same agents. Make sure that it is stopped and does
          not start again.
        </p>
      </AskReason>
    </span>
  );
}
