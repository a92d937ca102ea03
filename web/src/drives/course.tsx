import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useNow } from "../api/live";
import { Chart, token, Zoom } from "../parts/chart";
import type { View } from "../parts/view";
import { exact, number } from "../parts/format";
import { useTheme } from "../parts/frame";
import { useTell } from "../parts/toast";

/** from is the beginning of the shared axis, rounded to a minute, so that charts are not drawn every second. */
export const from = (now: Date, days: number): number => Math.floor(now.getTime() / 60_000) * 60 - days * 86400;

/** mostCompared is how many other drives are drawn beside one. */
const mostCompared = 3;

/** dashes distinguish the compared drives without colour. */
const dashes = [
  [10, 5],
  [3, 4],
  [12, 4, 3, 4],
];

const names = (text: string | null) => (text ?? "").split(",").filter(Boolean);

/** useCourse keeps in the page's address which metrics are drawn, over how many days, and beside which drives. */
export function useCourse() {
  const [params, setParams] = useSearchParams();
  const set = (name: string, value: string) =>
    setParams(
      (was) => {
        const next = new URLSearchParams(was);
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  return {
    days: Number(params.get("days")) || 30,
    setDays: (n: number) => set("days", String(n)),
    metrics: names(params.get("metrics")),
    setMetrics: (all: string[]) => set("metrics", all.join(",")),
    others: names(params.get("with")),
    setOthers: (all: string[]) => set("with", all.join(",")),
  };
}

/** Course draws metrics of a drive on one time axis, with its events, and with other drives for comparison. */
export function Course({ drive: d, usual, loud }: { drive: S["Drive"]; usual: string[]; loud: string[] }) {
  const { days, setDays, metrics, setMetrics, others, setOthers } = useCourse();
  const [view, setView] = useState<View | null>(null);
  const now = useNow(60_000);
  const begins = from(now, days);
  const whole: View = [begins, begins + days * 86400 + 60];
  const bands = [...new Set([...metrics, ...usual])].filter((m) => d.metrics?.some((x) => x.name === m));
  if (bands.length === 0) return null;
  return (
    <section aria-labelledby="course">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-2">
        <h2 id="course">Course</h2>
        <span className="flex flex-wrap items-center gap-1">
          {[7, 30, 90].map((n) => (
            <button
              key={n}
              aria-pressed={days === n}
              onClick={() => {
                setView(null);
                setDays(n);
              }}
              className={
                "num min-h-9 rounded-md px-2.5 text-sm text-soft " +
                "aria-pressed:bg-raised aria-pressed:font-semibold aria-pressed:text-ink"
              }
            >
              {n} days
            </button>
          ))}
          <Zoom whole={whole} view={view} set={setView} />
        </span>
      </div>
      <Compare drive={d} others={others} set={setOthers} />
      <div className="sheet divide-y divide-line">
        {bands.map((m) => (
          <Trend
            key={m}
            drive={d}
            metric={m}
            days={days}
            loud={loud.includes(m) ? d.verdict : "sound"}
            others={others}
            whole={whole}
            shared={{ view, set: setView }}
            remove={metrics.includes(m) ? () => setMetrics(metrics.filter((x) => x !== m)) : undefined}
          />
        ))}
      </div>
      <Happened drive={d} days={days} />
    </section>
  );
}

/** Compare chooses other drives that are drawn into the same charts. */
function Compare({ drive: d, others, set }: { drive: S["Drive"]; others: string[]; set: (all: string[]) => void }) {
  const [typed, setTyped] = useState("");
  const find = useMutation({
    mutationFn: (name: string) => got(client.GET("/drives/{drive}", { params: { path: { drive: name } } })),
    onSuccess: (o) => {
      setTyped("");
      if (o.key !== d.key && !others.includes(o.tail)) set([...others, o.tail]);
    },
  });
  return (
    <form
      className="no-print mb-2 flex flex-wrap items-center gap-2 text-sm"
      onSubmit={(e) => {
        e.preventDefault();
        if (typed.trim()) find.mutate(typed.trim());
      }}
    >
      {others.map((o, i) => (
        <span key={o} className="inline-flex items-center gap-1.5">
          <svg width="34" height="8" aria-hidden>
            <line
              x1="0"
              x2="34"
              y1="4"
              y2="4"
              stroke="currentColor"
              strokeWidth="2"
              strokeDasharray={dashes[i]?.join(" ")}
            />
          </svg>
          <span className="tail">{o}</span>
          <button type="button" className="button small" onClick={() => set(others.filter((x) => x !== o))}>
            Remove <span className="sr-only">{o} from the charts</span>
          </button>
        </span>
      ))}
      {others.length < mostCompared && (
        <>
          <label className="inline-flex items-center gap-2 text-soft">
            Compare with
            <input
              className="field w-36 font-mono"
              placeholder="tail or bay"
              value={typed}
              onChange={(e) => setTyped(e.target.value)}
            />
          </label>
          <button className="button small" disabled={find.isPending || !typed.trim()}>
            Compare
          </button>
        </>
      )}
      {find.error && <span role="alert">{find.error.message}</span>}
    </form>
  );
}

function Trend({
  drive: d,
  metric,
  days,
  loud,
  others,
  whole,
  shared,
  remove,
}: {
  drive: S["Drive"];
  metric: string;
  days: number;
  loud: string;
  others: string[];
  whole: View;
  shared: { view: View | null; set: (v: View | null) => void };
  remove?: () => void;
}) {
  useTheme();
  const query = (drive: string) => ({
    queryKey: ["drive", drive, "trend", metric, days],
    queryFn: () =>
      got(client.GET("/drives/{drive}/trend", { params: { path: { drive }, query: { metric, hours: 24 * days } } })),
    placeholderData: (was?: S["Trend"]) => (was?.drive === drive ? was : undefined), // never that of another drive
  });
  const trend = useQuery(query(d.key));
  const beside = useQueries({ queries: others.map(query) });
  const t = trend.data;
  if (trend.error) return <p className="p-4">{trend.error.message}</p>;
  if (!t || t.points.length < 2)
    return <div className="min-h-[18.5rem] p-4 text-soft">{t ? `${metric}: too few readings to draw` : ""}</div>;
  const peers = t.peers ?? [];
  const drawn = beside.flatMap((q, i) => (q.data ? [{ ...q.data, tail: others[i] ?? "", dash: dashes[i] }] : []));
  const at = [
    ...new Set(
      [t.points, ...peers.map((p) => p.points), ...drawn.map((o) => o.points)]
        .flat()
        .map((p) => Date.parse(p.at) / 1000),
    ),
  ].sort((a, b) => a - b);
  const onto = (points: S["Point"][]) => {
    const m = new Map(points.map((p) => [Date.parse(p.at) / 1000, p.value]));
    return at.map((x) => m.get(x) ?? null);
  };
  const last = t.points.at(-1);
  const color = token(loud === "sound" || loud === "unknown" ? "ink" : loud);
  const stepped = t.unit === "sectors" || t.unit === "errors";
  const show = (v: number) =>
    t.unit === "s" ? `${number(v * 1000)} ms` : stepped ? number(v) : `${number(v)} ${t.unit}`;
  if (!last) return null;
  const tails = [t.tail, ...drawn.map((o) => o.tail)].join(", ");
  return (
    <div className="p-4">
      <p className="flex flex-wrap items-baseline justify-between gap-x-4">
        <span className="font-semibold">
          {metric.replaceAll("_", " ")}{" "}
          {remove && (
            <button className="button small font-normal" onClick={remove}>
              Remove <span className="sr-only">the chart of {metric}</span>
            </button>
          )}
        </span>
        <span className="num">
          <b>{show(last.value)}</b>{" "}
          <span className="text-sm text-soft">
            {t.unit} · {t.source} · {exact(new Date(last.at))}
          </span>
        </span>
      </p>
      <p className="mb-2 text-sm text-soft">
        {t.means} {t.means_not}
        {peers.length ? " Faint lines: the other members of its group." : ""}
      </p>
      {beside.map((q, i) =>
        q.error || (q.data && q.data.points.length < 2) ? (
          <p key={others[i]} className="text-sm">
            {others[i]}: {q.error ? q.error.message : "no readings of this metric"}
          </p>
        ) : null,
      )}
      <Chart
        x={at}
        height={160}
        label={`${metric} of ${tails} over ${days} days, now ${last.value} ${t.unit}`}
        unit={show}
        from0={t.unit !== "°C"}
        span={whole}
        shared={shared}
        events={(d.happened ?? []).map((h) => ({ at: Date.parse(h.at) / 1000, letter: letters[h.kind].letter }))}
        lines={[
          ...peers.map((p) => ({ label: p.tail, color: token("line"), width: 1, values: onto(p.points) })),
          ...drawn.map((o) => ({
            label: o.tail,
            color: token("ink"),
            width: 2,
            dash: o.dash,
            values: onto(o.points),
            stepped,
          })),
          { label: t.tail, color, width: 3, values: onto(t.points), stepped },
        ]}
      />
    </div>
  );
}

export const letters: Record<S["Happening"]["kind"], { letter: string; word: string }> = {
  test: { letter: "T", word: "self-test" },
  place: { letter: "E", word: "event" },
  reset: { letter: "R", word: "counter reset" },
  swap: { letter: "S", word: "swap" },
  finding: { letter: "F", word: "finding" },
  note: { letter: "N", word: "note" },
};

/**
 * Happened says in words what the marks across the charts are, and takes a mark of a person's own: a note with a time.
 */
function Happened({ drive: d, days }: { drive: S["Drive"]; days: number }) {
  const now = useNow(60_000);
  const all = (d.happened ?? []).filter((h) => Date.parse(h.at) / 1000 >= from(now, days));
  return (
    <>
      {all.length === 0 ? (
        <p className="mt-2 text-sm text-soft">
          No marks in {days} days: no self-test, no move, no counter reset, no swap, no finding, no note.
        </p>
      ) : (
        <details className="mt-2">
          <summary className="min-h-8 cursor-pointer text-sm text-soft">
            Marks:{" "}
            {[...new Set(all.map((h) => h.kind))].map((k) => `${letters[k].letter} ${letters[k].word}`).join(", ")}
          </summary>
          <ul className="mt-1 space-y-1 text-sm">
            {all.map((h, i) => (
              <li key={i}>
                <span aria-hidden className="inline-block w-5 text-soft">
                  {letters[h.kind].letter}
                </span>
                <span className="num text-soft">
                  {h.about ? "about " : ""}
                  {exact(new Date(h.at))}
                </span>{" "}
                {h.says}
              </li>
            ))}
          </ul>
        </details>
      )}
      <MarkEvent drive={d} />
    </>
  );
}

/** local is a time as a field of the kind datetime-local has it. */
const local = (d: Date) => new Date(d.getTime() - d.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);

function MarkEvent({ drive: d }: { drive: S["Drive"] }) {
  const tell = useTell();
  const now = useNow(60_000);
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const [at, setAt] = useState("");
  const mark = useMutation({
    mutationFn: () =>
      got(
        client.PUT("/inventory/{drive}", {
          params: { path: { drive: d.key }, ...once() },
          body: { note: text.trim(), happened_at: at ? new Date(at).toISOString() : undefined },
        }),
      ),
    onSuccess: () => {
      tell(`Marked: ${text.trim()}`);
      setText("");
      setAt("");
      void queries.invalidateQueries({ queryKey: ["drive"] });
    },
    onError: (e) => tell(e.message, true),
  });
  return (
    <details className="no-print mt-1 text-sm">
      <summary className="min-h-8 cursor-pointer text-soft">Mark an event</summary>
      <form
        className="mt-1 flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (text.trim()) mark.mutate();
        }}
      >
        <label className="min-w-64 flex-1">
          <span className="mb-1 block text-soft">What happened</span>
          <input
            className="field w-full"
            maxLength={2000}
            value={text}
            onChange={(e) => setText(e.target.value)}
            placeholder="such as: rack moved"
          />
        </label>
        <label>
          <span className="mb-1 block text-soft">When; empty means now</span>
          <input
            className="field num"
            type="datetime-local"
            max={local(now)}
            value={at}
            onChange={(e) => setAt(e.target.value)}
          />
        </label>
        <button className="button" disabled={mark.isPending || !text.trim()}>
          Mark
        </button>
      </form>
      <p className="mt-1 text-soft">It is kept as a note about the drive, and shown as N in its charts.</p>
    </details>
  );
}
