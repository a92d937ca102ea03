import { useEffect, useLayoutEffect, useRef, useState } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { exact } from "./format";
import { useTheme } from "./frame";
import { useNear } from "./near";
import { inside, type View } from "./view";

export type Line = {
  label: string;
  color: string;
  width?: number;
  dash?: number[];
  values: (number | null)[];
  stepped?: boolean;
};
/** Event is an event in a chart: a line with a letter on top. */
export type Event = { at: number; letter: string };
export type Band = { upper: number; lower: number; fill: string };

/** Zoom shows a part of a time axis, moves it, and returns to the whole. */
export function Zoom({ whole, view, set }: { whole: View; view: View | null; set: (v: View | null) => void }) {
  const [from, to] = view ?? whole;
  const move = (start: number, wide: number) => set(inside([start, start + wide], whole));
  const wide = to - from;
  const button = (says: string, act: () => void, off = false) => (
    <button className="button small" disabled={off} onClick={act}>
      {says}
    </button>
  );
  return (
    <span className="no-print inline-flex flex-wrap gap-1" role="group" aria-label="Part of the time that is shown">
      {button("Zoom in", () => move(from + wide / 4, wide / 2), wide <= 60)}
      {view && (
        <>
          {button("Move back", () => move(from - wide / 2, wide), from <= whole[0])}
          {button("Move on", () => move(from + wide / 2, wide), to >= whole[1])}
          {button("Show all", () => set(null))}
        </>
      )}
    </span>
  );
}

/** token reads a colour of the present theme. */
export const token = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();

/**
 * Chart draws lines on one time axis; x in seconds. It stays in its box; label describes it in words. Dragging
 * chooses the part that is shown, dragging with Shift moves it. Charts that share an axis are given its view.
 */
export function Chart(props: {
  x: number[];
  lines: Line[];
  bands?: Band[];
  height?: number;
  label: string;
  unit: (v: number) => string;
  from0?: boolean;
  top?: number;
  span?: View;
  events?: Event[];
  shared?: { view: View | null; set: (v: View | null) => void };
}) {
  const box = useRef<HTMLDivElement>(null);
  const drawn = useRef<uPlot>(null);
  const { label, height = 220, shared } = props;
  const own = useState<View | null>(null);
  const [view, setView] = shared ? [shared.view, shared.set] : own;
  const whole: View = props.span ?? [props.x[0] ?? 0, props.x.at(-1) ?? 1];
  const seen = useRef({ view, whole, setView });
  const theme = useTheme();
  const near = useNear(box, "100px");
  const latest = useRef(props);
  useLayoutEffect(() => {
    latest.current = props;
    seen.current = { view, whole, setView };
  });
  // It is built again only when its content has changed, not whenever the page is drawn.
  const shown = JSON.stringify({ ...props, shared: undefined });
  useEffect(() => {
    const el = box.current;
    if (!el || !near) return;
    const { x, lines, bands = [], unit, from0 = false, top, span, events = [] } = latest.current;
    const ink = token("soft");
    const grid = { stroke: token("line"), width: 1 };
    const font = "13px 'Atkinson Hyperlegible Next Variable', sans-serif";
    const plot = new uPlot(
      {
        width: el.clientWidth,
        height,
        legend: { show: false },
        cursor: {
          drag: { x: true, y: false, dist: 8, setScale: false },
          bind: {
            mousedown: (u, _over, choose) => (e) => {
              if (e.shiftKey) pan(u, e, seen.current);
              else choose(e);
              return null;
            },
            dblclick: () => () => {
              seen.current.setView(null);
              return null;
            },
          },
        },
        hooks: {
          setSelect: [
            (u) => {
              const { left, width } = u.select;
              if (width < 8) return;
              const chosen: View = [u.posToVal(left, "x"), u.posToVal(left + width, "x")];
              u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
              seen.current.setView(inside(chosen, seen.current.whole));
            },
          ],
          ...(events.length
            ? {
                drawClear: [
                  (u: uPlot) => {
                    const c = u.ctx;
                    const px = devicePixelRatio;
                    c.save();
                    c.strokeStyle = token("edge");
                    c.fillStyle = ink;
                    c.lineWidth = px;
                    c.setLineDash([2 * px, 3 * px]);
                    c.font = `${12 * px}px 'Atkinson Hyperlegible Next Variable', sans-serif`;
                    c.textAlign = "center";
                    for (const e of events) {
                      const x = Math.round(u.valToPos(e.at, "x", true));
                      if (x < u.bbox.left || x > u.bbox.left + u.bbox.width) continue;
                      c.beginPath();
                      c.moveTo(x, u.bbox.top);
                      c.lineTo(x, u.bbox.top + u.bbox.height);
                      c.stroke();
                      c.fillText(e.letter, x, u.bbox.top - 3 * px);
                    }
                    c.restore();
                  },
                ],
              }
            : {}),
        },
        padding: events.length ? [16, null, null, null] : undefined,
        scales: {
          x: { time: true, range: (_u, lo, hi) => seen.current.view ?? span ?? [lo, hi] },
          y: {
            range: (_u, lo, hi) => {
              const pad = (hi - lo || 1) * 0.08;
              return [from0 ? 0 : Math.max(lo >= 0 ? 0 : -Infinity, lo - pad), top ?? (hi === 0 ? 1 : hi + pad)];
            },
          },
        },
        axes: [
          {
            stroke: ink,
            grid,
            ticks: grid,
            font,
            values: [
              [86400, "{D} {MMM}", null, null, null, null, null, null, 1],
              [3600, "{HH}:{mm}", "\n{D} {MMM}", null, null, null, null, null, 1],
              [60, "{HH}:{mm}", "\n{D} {MMM}", null, null, null, null, null, 1],
              [1, "{HH}:{mm}:{ss}", "\n{D} {MMM}", null, null, null, null, null, 1],
            ],
          },
          { stroke: ink, grid, ticks: grid, font, size: 78, values: (_u, v) => v.map(unit) },
        ],
        bands: bands.map((b) => ({ series: [b.upper, b.lower], fill: b.fill })),
        series: [
          {},
          ...lines.map((l) => ({
            label: l.label,
            stroke: l.color,
            width: l.width ?? 2,
            dash: l.dash,
            points: { show: false },
            spanGaps: true,
            paths: l.stepped ? uPlot.paths.stepped!({ align: 1 }) : undefined,
          })),
        ],
      },
      [x, ...lines.map((l) => l.values)] as uPlot.AlignedData,
      el,
    );
    drawn.current = plot;
    const watch = new ResizeObserver(() => plot.setSize({ width: el.clientWidth, height }));
    watch.observe(el);
    return () => {
      watch.disconnect();
      drawn.current = null;
      plot.destroy();
    };
  }, [shown, theme, height, near]);
  const [from, to] = view ?? whole;
  useEffect(() => {
    drawn.current?.setScale("x", { min: from, max: to });
  }, [from, to]);
  return (
    <>
      <div
        ref={box}
        role="img"
        aria-label={label}
        data-shown={`${Math.round(from)} ${Math.round(to)}`}
        title="Drag over a part to look closer, drag with Shift to move; double-click for the whole"
        className="w-full overflow-hidden"
        style={{ height }}
      />
      {!shared && props.x.length > 2 && <Zoom whole={whole} view={view} set={setView} />}
      <Values {...props} />
    </>
  );
}

/** pan moves what is shown along with the pointer until it is let go. */
function pan(u: uPlot, down: MouseEvent, seen: { view: View | null; whole: View; setView: (v: View | null) => void }) {
  const { view, whole, setView } = seen;
  if (!view) return;
  const perPixel = (view[1] - view[0]) / u.over.clientWidth;
  const move = (e: MouseEvent) => {
    const by = (down.clientX - e.clientX) * perPixel;
    setView(inside([view[0] + by, view[1] + by], whole));
  };
  const end = () => {
    document.removeEventListener("mousemove", move);
    document.removeEventListener("mouseup", end);
  };
  document.addEventListener("mousemove", move);
  document.addEventListener("mouseup", end);
}

/** most is how many rows of a chart's table are drawn. */
const most = 400;

/** Values are the same as a table, the newest first. */
function Values({ x, lines, label, unit }: Parameters<typeof Chart>[0]) {
  const [open, setOpen] = useState(false);
  const rows = open ? x.map((at, i) => ({ at, i })).reverse() : [];
  return (
    <details className="no-print text-sm" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="min-h-8 cursor-pointer text-soft">The same as a table</summary>
      {open && (
        <div className="max-h-80 overflow-auto" role="region" aria-label={`${label}, as a table`} tabIndex={0}>
          <table className="plain">
            <thead>
              <tr>
                <th>at</th>
                {lines.map((l) => (
                  <th key={l.label}>{l.label}</th>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows.slice(0, most).map(({ at, i }) => (
                <tr key={at}>
                  <td className="num">{exact(new Date(at * 1000))}</td>
                  {lines.map((l) => {
                    const v = l.values[i];
                    return (
                      <td key={l.label} className="num">
                        {v === null || v === undefined ? "" : unit(v)}
                      </td>
                    );
                  })}
                </tr>
              ))}
            </tbody>
          </table>
          {rows.length > most && <p className="text-soft">and {rows.length - most} earlier ones</p>}
        </div>
      )}
    </details>
  );
}
