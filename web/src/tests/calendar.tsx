import { useRef, type KeyboardEvent, type PointerEvent } from "react";
import type { S } from "../api/client";
import { useNow } from "../api/live";
import { clockOf, dayKey, dayName, plusDays, wall, type Wall } from "./zone";

export type Window = { days: number[]; from: number; to: number };

/** text is a window in the form of the API. */
export function text(w: Window): string {
  const names = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];
  const week = [1, 2, 3, 4, 5, 6, 0];
  const runs: number[][] = [];
  for (const [i, d] of week.entries()) {
    if (!w.days.includes(d)) continue;
    const run = i > 0 && w.days.includes(week[i - 1] ?? -1) ? runs.at(-1) : undefined;
    if (run) run.push(d);
    else runs.push([d]);
  }
  const days =
    w.days.length === 7
      ? "daily"
      : runs
          .map((r) => r.map((d) => names[d] ?? ""))
          .map((r) => (r.length > 2 ? `${r.at(0)}-${r.at(-1)}` : r.join(",")))
          .join(",");
  return `${days} ${clockOf(w.from)}-${clockOf(w.to)}`;
}

type Hour = { short: number; extended: number };
type Day = { wall: Wall; key: number; hours: Hour[]; begin: number; allowed: [number, number][] };

/** days arranges a calendar by the days of a zone. */
export function days(c: S["Calendar"], zone: string, plan: string, first: Wall, count: number): Day[] {
  const out: Day[] = Array.from({ length: count }, (_, i) => ({
    wall: plusDays(first, i),
    key: dayKey(plusDays(first, i)),
    hours: Array.from({ length: 24 }, () => ({ short: 0, extended: 0 })),
    begin: 0,
    allowed: [],
  }));
  const at = new Map(out.map((d) => [d.key, d]));
  let before = 0;
  for (const h of c.hours) {
    const w = wall(Date.parse(h.at), zone);
    const d = at.get(dayKey(w));
    const cell = d?.hours[Math.floor(w.minute / 60)];
    if (d && cell) {
      cell.short = Math.max(cell.short, h.short);
      cell.extended = Math.max(cell.extended, h.extended);
      d.begin += Math.max(0, h.short + h.extended - before);
    }
    before = h.extended;
  }
  for (const span of c.times.find((t) => t.plan === plan)?.allowed ?? []) {
    const from = wall(Date.parse(span.from), zone);
    const to = wall(Date.parse(span.to) - 1, zone);
    for (const d of out) {
      if (d.key < dayKey(from) || d.key > dayKey(to)) continue;
      d.allowed.push([d.key === dayKey(from) ? from.minute : 0, d.key === dayKey(to) ? to.minute + 1 : 1440]);
    }
  }
  return out;
}

const height = 21; // of an hour, in pixels

/** Week draws load per hour. The windows of a plan are its light ground; their edges can be moved, if move is given. */
export function Week({
  days: all,
  zone,
  windows,
  move,
  chosen,
  choose,
}: {
  days: Day[];
  zone: string;
  windows: Window[];
  move?: (i: number, w: Window) => void;
  chosen?: number;
  choose: (key: number) => void;
}) {
  const now = wall(useNow(60_000).getTime(), zone);
  const most = Math.max(4, ...all.flatMap((d) => d.hours.map((h) => h.short + h.extended)));
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="The week, hour by hour">
      <div className="grid min-w-[42rem] grid-cols-[2.6rem_repeat(7,1fr)] gap-x-1">
        <span />
        {all.map((d) => (
          <button
            key={d.key}
            onClick={() => choose(d.key)}
            aria-pressed={chosen === d.key}
            className="min-h-11 rounded-md px-1 text-left hover:bg-raised aria-pressed:bg-raised"
          >
            <span className={`block text-sm ${d.key === dayKey(now) ? "font-bold" : "font-semibold"}`}>
              {dayName(d.wall)}
              {d.key === dayKey(now) && ", today"}
            </span>
            <span className="num block text-xs text-soft">
              {d.begin === 0 ? "none begins" : d.begin === 1 ? "1 begins" : `${d.begin} begin`}
            </span>
          </button>
        ))}
        <div className="num relative text-right text-xs text-soft" style={{ height: 24 * height }}>
          {[0, 3, 6, 9, 12, 15, 18, 21].map((h) => (
            <span key={h} className="absolute right-1 -translate-y-1/2" style={{ top: Math.max(6, h * height) }}>
              {clockOf(h * 60)}
            </span>
          ))}
        </div>
        {all.map((d) => (
          <div
            key={d.key}
            className="barred relative overflow-hidden rounded-sm border border-line"
            style={{ height: 24 * height }}
          >
            {d.allowed.map(([from, to], i) => (
              <div
                key={i}
                className="absolute inset-x-0 bg-sheet"
                style={{ top: (from / 60) * height, height: ((to - from) / 60) * height }}
              />
            ))}
            {[6, 12, 18].map((h) => (
              <div key={h} className="absolute inset-x-0 border-t border-line" style={{ top: h * height }} />
            ))}
            {d.hours.map(
              (h, i) =>
                h.short + h.extended > 0 && (
                  <div
                    key={i}
                    className="absolute inset-x-0 flex items-center"
                    style={{ top: i * height, height }}
                    title={`${clockOf(i * 60)}: ${h.short} short, ${h.extended} extended`}
                  >
                    <div
                      className="bg-level-ink"
                      style={{ width: `${(h.extended / most) * 78}%`, height: height - 4 }}
                    />
                    <div className="bg-level" style={{ width: `${(h.short / most) * 78}%`, height: height - 4 }} />
                    <span className="num ml-1 text-[0.7rem] leading-none text-ink">{h.short + h.extended}</span>
                  </div>
                ),
            )}
            {d.key === dayKey(now) && (
              <div className="absolute inset-x-0 border-t-2 border-seam" style={{ top: (now.minute / 60) * height }}>
                <span className="sr-only">now</span>
              </div>
            )}
            {move &&
              windows.map((w, i) => (
                <Edges
                  key={i}
                  window={w}
                  weekday={new Date(Date.UTC(d.wall.year, d.wall.month - 1, d.wall.day)).getUTCDay()}
                  move={(next) => move(i, next)}
                />
              ))}
          </div>
        ))}
      </div>
    </div>
  );
}

/**
 * Edges are where a window begins and ends on a day, to be moved by pointer or arrow keys, in steps of a quarter of
 * an hour.
 */
function Edges({ window: w, weekday, move }: { window: Window; weekday: number; move: (w: Window) => void }) {
  const over = w.to <= w.from;
  const ends = w.days.includes(over ? (weekday + 6) % 7 : weekday);
  return (
    <>
      {w.days.includes(weekday) && (
        <Edge
          at={w.from}
          label={`Window begins at ${clockOf(w.from)}`}
          below
          move={(at) => move({ ...w, from: Math.min(at, 1425) })}
        />
      )}
      {ends && w.to > 0 && w.to < 1440 && (
        <Edge
          at={w.to}
          label={`Window ends at ${clockOf(w.to)}`}
          move={(at) => move({ ...w, to: at === 0 ? 15 : at })}
        />
      )}
    </>
  );
}

function Edge({ at, label, below, move }: { at: number; label: string; below?: boolean; move: (at: number) => void }) {
  const held = useRef<{ y: number; at: number } | null>(null);
  const step = (to: number) => move(Math.max(0, Math.min(1440, Math.round(to / 15) * 15)));
  const down = (e: PointerEvent<HTMLDivElement>) => {
    e.currentTarget.setPointerCapture(e.pointerId);
    held.current = { y: e.clientY, at };
  };
  const drag = (e: PointerEvent<HTMLDivElement>) => {
    if (held.current) step(held.current.at + ((e.clientY - held.current.y) / height) * 60);
  };
  const key = (e: KeyboardEvent) => {
    const by = { ArrowUp: -15, ArrowDown: 15, PageUp: -60, PageDown: 60 }[e.key];
    if (by === undefined) return;
    e.preventDefault();
    step(at + by);
  };
  return (
    <div
      role="slider"
      tabIndex={0}
      aria-orientation="vertical"
      aria-label={label}
      aria-valuemin={0}
      aria-valuemax={1440}
      aria-valuenow={at}
      aria-valuetext={clockOf(at)}
      onPointerDown={down}
      onPointerMove={drag}
      onPointerUp={() => (held.current = null)}
      onKeyDown={key}
      className="group absolute inset-x-0 z-10 h-4 -translate-y-1/2 cursor-ns-resize touch-none"
      style={{ top: (at / 60) * height }}
    >
      <div
        className={
          "absolute inset-x-0 top-1/2 border-t-2 border-edge " + "group-hover:border-ink group-focus:border-ink"
        }
      />
      <span
        className={[
          "num absolute right-1 text-[0.65rem] leading-none text-soft group-hover:text-ink",
          below ? "top-[11px]" : "bottom-[11px]",
        ].join(" ")}
      >
        {clockOf(at)}
      </span>
    </div>
  );
}

/** Month draws a day as its hours, small. */
export function Month({ days: all, zone, choose }: { days: Day[]; zone: string; choose: (d: Wall) => void }) {
  const today = dayKey(wall(useNow(60_000).getTime(), zone));
  const most = Math.max(4, ...all.flatMap((d) => d.hours.map((h) => h.short + h.extended)));
  const width = 96;
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="The weeks, day by day">
      <div className="grid min-w-[40rem] grid-cols-7 gap-1">
        {all.map((d) => (
          <button
            key={d.key}
            onClick={() => choose(d.wall)}
            className={`sheet overflow-hidden p-2 text-left hover:border-edge ${d.key === today ? "border-edge!" : ""}`}
          >
            <span className={`flex justify-between gap-2 text-sm ${d.key === today ? "font-bold" : ""}`}>
              {dayName(d.wall)}
              <span className="num text-soft">{d.begin || ""}</span>
            </span>
            <svg
              viewBox={`0 0 ${width} 34`}
              preserveAspectRatio="none"
              className="mt-1 h-9 w-full"
              role="img"
              aria-label={`${d.begin} tests begin`}
            >
              {d.allowed.map(([a, b], i) => (
                <rect
                  key={i}
                  x={(a / 1440) * width}
                  width={((b - a) / 1440) * width}
                  y="32"
                  height="2"
                  fill="var(--edge)"
                />
              ))}
              {d.hours.map((h, i) => {
                const tall = ((h.short + h.extended) / most) * 30;
                const long = (h.extended / most) * 30;
                return (
                  <g key={i}>
                    <rect x={i * 4 + 0.4} width="3.2" y={31 - tall} height={tall} fill="var(--level)" />
                    <rect x={i * 4 + 0.4} width="3.2" y={31 - long} height={long} fill="var(--level-ink)" />
                  </g>
                );
              })}
            </svg>
          </button>
        ))}
      </div>
    </div>
  );
}
