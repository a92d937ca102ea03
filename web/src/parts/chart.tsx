import { useEffect, useLayoutEffect, useRef, useState } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { exact } from "./format";
import { useTheme } from "./frame";

export type Line = {
  label: string;
  color: string;
  width?: number;
  dash?: number[];
  values: (number | null)[];
  stepped?: boolean;
};
/** Event is something that happened, drawn across a chart: a line with a letter on top. */
export type Event = { at: number; letter: string };
export type Band = { upper: number; lower: number; fill: string };

/** token reads a colour of the theme that is on. */
export const token = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();

/** Chart draws lines on one time axis; x in seconds. It keeps to its box, and is told in words by label. */
export function Chart(props: {
  x: number[];
  lines: Line[];
  bands?: Band[];
  height?: number;
  label: string;
  unit: (v: number) => string;
  from0?: boolean;
  top?: number;
  span?: [number, number];
  events?: Event[];
}) {
  const box = useRef<HTMLDivElement>(null);
  const { label, height = 220 } = props;
  const theme = useTheme();
  const latest = useRef(props);
  useLayoutEffect(() => {
    latest.current = props;
  });
  // It is built anew when what it shows has changed, not whenever the page around it is drawn.
  const shown = JSON.stringify(props);
  useEffect(() => {
    const el = box.current;
    if (!el) return;
    const { x, lines, bands = [], unit, from0 = false, top, span, events = [] } = latest.current;
    const ink = token("soft");
    const grid = { stroke: token("line"), width: 1 };
    const font = "13px 'Atkinson Hyperlegible Next Variable', sans-serif";
    const plot = new uPlot(
      {
        width: el.clientWidth,
        height,
        legend: { show: false },
        cursor: { drag: { x: true, y: false, dist: 8 } },
        hooks: events.length
          ? {
              drawClear: [
                (u) => {
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
          : {},
        padding: events.length ? [16, null, null, null] : undefined,
        scales: {
          x: { time: true, ...(span ? { range: () => span } : {}) },
          y: {
            range: (_u, lo, hi) => {
              const pad = (hi - lo || 1) * 0.08;
              return [from0 ? 0 : Math.max(lo >= 0 ? 0 : -Infinity, lo - pad), top ?? hi + pad];
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
    const watch = new ResizeObserver(() => plot.setSize({ width: el.clientWidth, height }));
    watch.observe(el);
    return () => {
      watch.disconnect();
      plot.destroy();
    };
  }, [shown, theme, height]);
  return (
    <>
      <div
        ref={box}
        role="img"
        aria-label={label}
        title="Drag over a part to look closer; double-click for the whole"
        className="w-full overflow-hidden"
        style={{ height }}
      />
      <Values {...props} />
    </>
  );
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
