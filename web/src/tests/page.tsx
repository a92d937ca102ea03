import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ToggleGroup } from "radix-ui";
import { useEffect, useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useNow } from "../api/live";
import { Command } from "../parts/command";
import { useDo } from "../parts/do";
import { Failed, Tail, Title, Waiting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { days as layOut, Month, text, Week, type Window } from "./calendar";
import { Now } from "./now";
import { Plans, toChange } from "./plans";
import { Standing } from "./standing";
import { clockIn, iso, midnight, monday, plusDays, wall, type Wall } from "./zone";

export default function TestsPage() {
  const plans = useQuery({ queryKey: ["plans"], queryFn: () => got(client.GET("/plans")) });
  const standing = useQuery({
    queryKey: ["calendar", "standing", "counts"],
    queryFn: () => got(client.GET("/selftests/standing", { params: { query: { limit: 1 } } })),
  });
  if (plans.error) return <Failed what="The test plans" error={plans.error} again={() => void plans.refetch()} />;
  if (!plans.data || !standing.data) return <Waiting rows={6} />;
  return <Page plans={plans.data} counts={standing.data.counts} />;
}

function Page({ plans, counts }: { plans: S["Plan"][]; counts: Record<string, number> }) {
  const [params, setParams] = useSearchParams();
  const set = (values: Record<string, string | null>) =>
    setParams(
      (was) => {
        const next = new URLSearchParams(was);
        for (const [k, v] of Object.entries(values))
          if (v === null) next.delete(k);
          else next.set(k, v);
        return next;
      },
      { replace: true },
    );
  // the plan of the fleet is always there
  const plan = plans.find((p) => p.name === params.get("plan")) ?? plans.at(-1)!;
  const zone = plan.zone;
  const now = useNow(60_000).getTime();
  const month = params.get("view") === "month";
  const start = params.get("week");
  const first: Wall = useMemo(() => {
    const m = start ? /^(\d+)-(\d+)-(\d+)$/.exec(start) : null;
    return monday(m ? midnight(Number(m[1]), Number(m[2]), Number(m[3]), zone) + 43_200_000 : now, zone);
  }, [start, zone, now]);
  const count = month ? 35 : 7;
  const until = plusDays(first, count);
  const from = new Date(midnight(first.year, first.month, first.day, zone)).toISOString();
  const to = new Date(midnight(until.year, until.month, until.day, zone)).toISOString();

  // Windows that were moved, and are not kept yet.
  const [draft, setDraft] = useState<Window[] | null>(null);
  const weekly: Window[] = useMemo(
    () =>
      plan.open
        .filter((w) => w.days?.length)
        .map((w) => ({ days: w.days!, from: w.from_minute ?? 0, to: w.to_minute ?? 0 })),
    [plan],
  );
  const onces = plan.open.filter((w) => !w.days?.length).map((w) => w.text);
  useEffect(() => setDraft(null), [plan]);
  const settled = useSettled(draft, 350);
  const windows = draft ?? weekly;
  const change = (list: Window[]) => ({ ...toChange(plan), windows: [...list.map(text), ...onces] });

  const asIs = useQuery({
    queryKey: ["calendar", from, to],
    queryFn: () => got(client.GET("/calendar", { params: { query: { from, to } } })),
    placeholderData: keepPreviousData,
  });
  const then = useQuery({
    queryKey: ["calendar", "preview", plan.name, from, count, settled],
    enabled: !!settled,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      got(
        client.POST("/plans/preview", { body: { name: plan.name, from, weeks: count / 7, change: change(settled!) } }),
      ),
  });
  const shown = draft && then.data ? then.data : asIs.data;

  const queries = useQueryClient();
  const tell = useTell();
  const keep = useMutation({
    mutationFn: () =>
      got(client.PUT("/plans/{name}", { params: { path: { name: plan.name }, ...once() }, body: change(draft!) })),
    onSuccess: () => {
      tell(`The plan ${plan.name} is saved.`);
      for (const k of ["plans", "calendar"]) void queries.invalidateQueries({ queryKey: [k] });
    },
    onError: (e: Error) => tell(e.message, true),
  });
  const laid = useMemo(
    () => (shown ? layOut(shown, zone, plan.name, first, count) : []),
    [shown, zone, plan.name, first, count],
  );
  const day = params.get("day");
  const title = (
    <Title aside={<Counts counts={counts} which={params.get("which") ?? ""} choose={(w) => set({ which: w })} />}>
      Self-tests
    </Title>
  );
  // What will go untested stands above the calendar: both come at once, so that nothing moves.
  if (!shown && !asIs.error)
    return (
      <>
        {title}
        <Waiting rows={6} />
      </>
    );
  return (
    <>
      {title}
      {shown && <Trouble calendar={shown} zone={zone} />}
      <section aria-label="Calendar" className="mb-8">
        <div className="mb-3 flex flex-wrap items-center gap-2">
          <ToggleGroup.Root
            type="single"
            value={month ? "month" : "week"}
            onValueChange={(v) => v && set({ view: v === "month" ? "month" : null })}
            aria-label="How much is shown"
            className="inline-flex rounded-lg border border-line"
          >
            {["week", "month"].map((l) => (
              <ToggleGroup.Item
                key={l}
                value={l}
                className="min-h-10 rounded-md px-4 text-soft data-[state=on]:bg-raised data-[state=on]:text-ink"
              >
                {l}
              </ToggleGroup.Item>
            ))}
          </ToggleGroup.Root>
          <button className="button small" onClick={() => set({ week: iso(plusDays(first, -count)), day: null })}>
            Earlier
          </button>
          <button className="button small" onClick={() => set({ week: null, day: null })}>
            Today
          </button>
          <button className="button small" onClick={() => set({ week: iso(plusDays(first, count)), day: null })}>
            Later
          </button>
          <label className="ml-auto flex items-center gap-2 text-sm text-soft">
            windows of
            <select className="field w-auto" value={plan.name} onChange={(e) => set({ plan: e.target.value })}>
              {plans.map((p) => (
                <option key={p.name}>{p.name}</option>
              ))}
            </select>
          </label>
          {!month && windows.length === 0 && (
            <button
              className="button small"
              onClick={() => setDraft([{ days: [0, 1, 2, 3, 4, 5, 6], from: 22 * 60, to: 6 * 60 }])}
            >
              Add a window
            </button>
          )}
        </div>
        {draft && (
          <div role="status" className="sheet mb-3 flex flex-wrap items-center gap-x-5 gap-y-2 border-edge! px-4 py-3">
            <span className="min-w-0 grow">
              <b>{draft.length ? draft.map(text).join(", ") : "no window: tests at any time"}</b>
              <span className="block text-soft">
                {then.error ? (
                  <b className="text-replace">{then.error.message}</b>
                ) : then.data && !then.isPlaceholderData && settled === draft ? (
                  effect(then.data.effect)
                ) : (
                  "working out what it does"
                )}
              </span>
            </span>
            {draft.length > 0 && (
              <button className="button small" onClick={() => setDraft([])}>
                No window
              </button>
            )}
            <button className="button small" onClick={() => setDraft(null)}>
              Cancel
            </button>
            <button
              className="button small main"
              disabled={keep.isPending || !!then.error || settled !== draft}
              onClick={() => keep.mutate()}
            >
              Save
            </button>
          </div>
        )}
        {asIs.error && <Failed what="The calendar" error={asIs.error} again={() => void asIs.refetch()} />}
        {shown &&
          (month ? (
            <Month days={laid} zone={zone} choose={(d) => set({ view: null, week: iso(d), day: iso(d) })} />
          ) : (
            <Week
              days={laid}
              zone={zone}
              windows={windows}
              move={(i, w) => setDraft(windows.map((x, k) => (k === i ? w : x)))}
              chosen={day ? Number(day.replaceAll("-", "")) : undefined}
              choose={(k) => {
                const s = `${String(k).slice(0, 4)}-${String(k).slice(4, 6)}-${String(k).slice(6)}`;
                set({ day: s === day ? null : s });
              }}
            />
          ))}
        <p className="mt-2 text-sm text-soft">
          <span aria-hidden className="mr-1 inline-block h-3 w-5 bg-level-ink align-middle" />
          extended <span aria-hidden className="ml-3 mr-1 inline-block h-3 w-5 bg-level align-middle" />
          short, running in that hour
          {windows.length > 0 && (
            <>
              ; <span aria-hidden className="barred ml-1 mr-1 inline-block h-3 w-5 border border-line align-middle" />
              no test of this plan begins
            </>
          )}
          . Times of {zone}.
          {!month && windows.length > 0 && " Drag the edges of a window; nothing is saved until you confirm."}
        </p>
        {day && !month && <DayTests day={day} zone={zone} />}
      </section>
      <Plans plans={plans} chosen={plan.name} choose={(name) => set({ plan: name })} />
      <Now />
      <Standing which={params.get("which") ?? ""} counts={counts} />
      <Feed />
    </>
  );
}

/** Feed makes the address under which a calendar program can read the calendar, and ends it. */
function Feed() {
  const tell = useTell();
  const [path, setPath] = useState("");
  const make = useMutation({
    mutationFn: () => got(client.POST("/calendar/feed", { params: once() })),
    onSuccess: (f) => setPath(f.path),
    onError: (e: Error) => tell(e.message, true),
  });
  const end = useDo();
  return (
    <section aria-labelledby="feed" className="mt-8 space-y-2">
      <h2 id="feed">In your own calendar</h2>
      <p className="text-soft">
        Calendar programs read planned self-tests from your own address. Anybody who knows it can read it, without
        signing in. A new address ends the old one.
      </p>
      {path && <Command line={location.origin + path} />}
      <p className="flex flex-wrap gap-3">
        <button className="button" disabled={make.isPending} onClick={() => make.mutate()}>
          Make an address
        </button>
        <button
          className="button"
          disabled={end.isPending}
          onClick={() =>
            end.mutate({
              ask: () => got(client.DELETE("/calendar/feed")),
              says: "Your address is removed: calendar programs can no longer read it.",
              then: () => setPath(""),
            })
          }
        >
          End mine
        </button>
      </p>
    </section>
  );
}

/** useSettled gives a value when it has not changed for a while. */
function useSettled<T>(value: T, wait: number): T {
  const [settled, set] = useState(value);
  useEffect(() => {
    const t = setTimeout(() => set(value), wait);
    return () => clearTimeout(t);
  }, [value, wait]);
  return settled;
}

function effect(e?: S["PlanEffect"]): string {
  if (!e) return "No test moves.";
  const parts = [
    e.moved && `${e.moved} tests move`,
    e.begun && `${e.begun} are new`,
    e.ended && `${e.ended} are removed`,
  ].filter(Boolean);
  const left = e.untested_then
    ? `; ${e.untested_then} have no place (now ${e.untested_now})`
    : e.untested_now
      ? "; all have a place"
      : "";
  return `${parts.join(", ") || "No test moves"}${left}.`;
}

function Counts({
  counts,
  which,
  choose,
}: {
  counts: Record<string, number>;
  which: string;
  choose: (w: string | null) => void;
}) {
  const words: [string, string][] = [
    ["failed", "failed"],
    ["overdue", "overdue"],
    ["held", "held back"],
    ["never", "never tested"],
    ["cannot", "cannot be tested"],
  ];
  const some = words.filter(([k]) => counts[k]);
  return (
    <span className="flex flex-wrap items-center gap-x-3 gap-y-1">
      {counts.all ? `${counts.all} drives` : "no drive is known yet"}
      {!!counts.all && some.length === 0 && ", every one tested in its time"}
      {some.map(([k, word]) => (
        <a
          key={k}
          href="#standing"
          onClick={() => choose(which === k ? null : k)}
          className={`underline underline-offset-4 ${k === "failed" ? "font-semibold text-replace" : "text-ink"}`}
        >
          {counts[k]} {word}
        </a>
      ))}
    </span>
  );
}

/** Trouble says what will go untested, what is held back now, and what was missed. */
function Trouble({ calendar: c, zone }: { calendar: S["Calendar"]; zone: string }) {
  const day = (at: string) =>
    new Date(at).toLocaleDateString("en-GB", { day: "numeric", month: "short", timeZone: zone });
  const days = (k: S["Crowd"]) => `${day(k.from)} to ${day(k.to)}`;
  if (c.crowds.length + c.held.length + c.missed.length + c.unsettled.length === 0) return null;
  return (
    <section aria-label="Problems" className="sheet mb-6 divide-y divide-line">
      {c.crowds.map((k, i) => (
        <p key={i} className="px-4 py-2.5">
          <b>
            {k.left.length === 1 ? "1 test does" : `${k.left.length} tests do`} not fit, {days(k)}.
          </b>{" "}
          {k.says.charAt(0).toUpperCase() + k.says.slice(1)}{" "}
          <span className="text-soft">
            Plan {k.plan}; {k.left.slice(0, 5).join(", ")}
            {k.left.length > 5 && ` and ${k.left.length - 5} more`}.
          </span>
        </p>
      ))}
      {c.unsettled.length > 0 && (
        <p className="px-4 py-2.5">
          <b>Two plans are for the same drive.</b> {c.unsettled.slice(0, 3).join("; ")}
          {c.unsettled.length > 3 && ` and ${c.unsettled.length - 3} more`}. The first is followed.
        </p>
      )}
      {c.held.length > 0 && <Listed title={`${c.held.length} held back`} tests={c.held} zone={zone} />}
      {c.missed.length > 0 && <Listed title={`${c.missed.length} missed`} tests={c.missed} zone={zone} />}
    </section>
  );
}

function Listed({ title, tests, zone }: { title: string; tests: S["PlannedTest"][]; zone: string }) {
  return (
    <details className="px-4 py-2.5" open={tests.length < 4}>
      <summary className="cursor-pointer">
        <b>{title}</b>
        {tests.length > 3 && (
          <span className="text-soft">: {[...new Set(tests.map((t) => t.why))].slice(0, 2).join("; ")}</span>
        )}
      </summary>
      <ul className="mt-1 max-h-64 space-y-1 overflow-y-auto">
        {tests.map((t, i) => (
          <li key={i}>
            <Tail tail={t.tail} to={`/drives/${t.drive}`} />{" "}
            <span className="text-soft">
              {t.bay}
              {t.pool && `, ${t.pool}`}
            </span>
            , {t.kind}
            {t.at && <span className="num text-soft">, due {clockIn(t.at, zone)}</span>}: {t.why}
          </li>
        ))}
      </ul>
    </details>
  );
}

/** DayTests lists the tests of one day. */
function DayTests({ day, zone }: { day: string; zone: string }) {
  const [y = 0, m = 1, d = 1] = day.split("-").map(Number);
  const from = new Date(midnight(y, m, d, zone)).toISOString();
  const to = new Date(midnight(y, m, d + 1, zone)).toISOString();
  const q = useQuery({
    queryKey: ["calendar", "day", from, to],
    queryFn: () => got(client.GET("/calendar/tests", { params: { query: { from, to, limit: 500 } } })),
  });
  if (q.error) return <p className="mt-3">{q.error.message}</p>;
  if (!q.data) return <p className="mt-3 text-soft">Looking up the tests of {day}</p>;
  return (
    <div className="sheet mt-3 max-h-96 overflow-auto" tabIndex={0} role="region" aria-label={`Tests of ${day}`}>
      {q.data.tests.length === 0 ? (
        <p className="px-4 py-3 text-soft">No test on {day}.</p>
      ) : (
        <table className="plain">
          <thead>
            <tr>
              <th>from</th>
              <th>to</th>
              <th>drive</th>
              <th>bay</th>
              <th>pool</th>
              <th>test</th>
              <th>plan</th>
              <th>state</th>
            </tr>
          </thead>
          <tbody>
            {q.data.tests.map((t, i) => (
              <tr key={i}>
                <td className="num">
                  {dayOf(t.at!, zone, day)}
                  {clockIn(t.at!, zone)}
                </td>
                <td className="num">
                  {dayOf(t.until!, zone, day)}
                  {clockIn(t.until!, zone)}
                </td>
                <td>
                  <Tail tail={t.tail} to={`/drives/${t.drive}`} />
                </td>
                <td>{t.bay}</td>
                <td>{t.pool && <Link to={`/pools/${encodeURIComponent(t.pool)}`}>{t.pool}</Link>}</td>
                <td>{t.kind}</td>
                <td>{t.plan}</td>
                <td>
                  {t.state === "done" ? t.result || "done" : t.state}
                  {t.why && t.state !== "done" && `: ${t.why}`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {q.data.total > q.data.tests.length && (
        <p className="px-4 py-2 text-soft">and {q.data.total - q.data.tests.length} more: lantern plan tests</p>
      )}
    </div>
  );
}

function dayOf(at: string, zone: string, day: string): string {
  const w = wall(Date.parse(at), zone);
  return iso(w) === day ? "" : `${iso(w).slice(5)} `;
}
