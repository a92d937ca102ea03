import type { S } from "../api/client";
import { useNow } from "../api/live";
import { Chart, token, type Line } from "../parts/chart";
import { clock, decimal, finish, percent, span } from "../parts/format";
import { useTheme } from "../parts/frame";
import { Seam } from "../parts/parts";

/** Standing is the progress of a recovery: share, rate, the range of its finish, and the curve with that range. */
export function Standing({
  recovery: r,
  under,
  height = 260,
}: {
  recovery: S["Recovery"];
  under?: S["Recovery"];
  height?: number;
}) {
  useTheme();
  const now = useNow();
  const live = r.state === "running" || r.state === "paused";
  const course = r.course ?? [];
  const x = course.map((c) => Date.parse(c.at) / 1000);
  const done = course.map((c) => (100 * c.done_bytes) / Math.max(1, c.todo_bytes));
  const pad = (n: number) => Array<null>(n).fill(null);
  let lines: Line[] = [{ label: "done", color: token("ink"), width: 3, values: done }];
  let xs = x;
  let bands: { upper: number; lower: number; fill: string }[] = [];
  const at = done.at(-1);
  const from = x.at(-1);
  if (live && r.finish && at !== undefined && from !== undefined) {
    const seconds = (t: string) => Date.parse(t) / 1000;
    const ends = { soonest: seconds(r.finish.p10), likely: seconds(r.finish.p50), latest: seconds(r.finish.p90) };
    const ahead = [
      ...new Set([
        ...Object.values(ends),
        ...Array.from({ length: 12 }, (_, i) => from + ((ends.latest - from) * (i + 1)) / 12),
      ]),
    ]
      .filter((t) => t > from)
      .sort((a, b) => a - b);
    const to = (end: number) => [
      ...pad(x.length - 1),
      at,
      ...ahead.map((t) => Math.min(100, at + ((100 - at) * (t - from)) / Math.max(1, end - from))),
    ];
    xs = [...x, ...ahead];
    lines = [
      { label: "done", color: token("ink"), width: 3, values: [...done, ...pad(ahead.length)] },
      { label: "soonest", color: token("edge"), width: 1, values: to(ends.soonest) },
      { label: "latest", color: token("edge"), width: 1, values: to(ends.latest) },
      { label: "likely", color: token("soft"), width: 2, dash: [6, 5], values: to(ends.likely) },
    ];
    bands = [{ upper: 2, lower: 3, fill: token("raised") }];
  }
  // An earlier one is drawn below it, moved to the same beginning.
  if (under?.course?.length && xs.length) {
    const shift = Date.parse(r.started_at) - Date.parse(under.started_at);
    const their = under.course.map(
      (c) => [(Date.parse(c.at) + shift) / 1000, (100 * c.done_bytes) / Math.max(1, c.todo_bytes)] as const,
    );
    const all = [...new Set([...xs, ...their.map(([t]) => t)])].sort((a, b) => a - b);
    const at = new Map(xs.map((t, i) => [t, i]));
    lines = lines.map((l) => ({
      ...l,
      values: all.map((t) => (at.has(t) ? (l.values[at.get(t)!] ?? null) : between(xs, l.values, t))),
    }));
    lines.push({
      label: "earlier",
      color: token("level"),
      width: 2,
      dash: [2, 4],
      values: all.map((t) =>
        between(
          their.map((p) => p[0]),
          their.map((p) => p[1]),
          t,
        ),
      ),
    });
    xs = all;
  }
  return (
    <div className="space-y-3">
      {live && (
        <>
          <div className="flex flex-wrap items-baseline justify-between gap-x-4">
            <span className="num text-4xl font-semibold">{percent(r.share)}</span>
            <span className="num text-lg">
              {r.stalled ? <b className="text-replace">stalled: {r.why}</b> : finish(now, r.finish)}
            </span>
          </div>
          <Seam share={r.share} label={`${r.kind} of ${r.pool}`} />
        </>
      )}
      <p className="num text-soft">
        {decimal(r.done_bytes)} of {decimal(r.todo_bytes)} · {live ? `${decimal(r.rate_now)}/s now, ` : ""}
        {decimal(r.rate_overall)}/s overall
        {!live && r.ended_at && ` · took ${span(Date.parse(r.ended_at) - Date.parse(r.started_at))}`}
        {live && r.phase && ` · ${r.phase}`}
        {r.again_at && <b> · started again from the beginning</b>}
        {r.found > 0 && ` · ${r.found} errors found, ${r.repaired} repaired, ${r.unrepairable} left`}
      </p>
      {live && r.cost && !r.risk && <p>If something fails meanwhile: {r.cost}.</p>}
      {live && !r.finish && <p className="text-soft">No finish is named yet: {r.why}.</p>}
      {x.length > 1 && (
        <Chart
          x={xs}
          lines={lines}
          bands={bands}
          height={height}
          from0
          top={100}
          unit={(v) => `${v} %`}
          label={
            `Course: ${percent(r.share)} done` + (r.finish ? `, likely finish ${clock(new Date(r.finish.p50))}` : "")
          }
        />
      )}
      {live && r.finish && (
        <p className="text-sm text-soft">
          The fan is an estimate from the course so far: one in ten ends before {clock(new Date(r.finish.p10))}, one in
          ten after {clock(new Date(r.finish.p90))}.
        </p>
      )}
    </div>
  );
}

/** between is a line's value at t, straight from the point before to the one after; nothing outside of it. */
function between(xs: number[], values: (number | null)[], t: number): number | null {
  let before: { x: number; y: number } | null = null;
  for (let i = 0; i < xs.length; i++) {
    const x = xs[i] ?? 0;
    const y = values[i] ?? null;
    if (y === null) continue;
    if (x === t) return y;
    if (x > t) return before && before.y + ((y - before.y) * (t - before.x)) / (x - before.x);
    before = { x, y };
  }
  return null;
}
