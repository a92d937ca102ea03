import { useQueries } from "@tanstack/react-query";
import { client, got, type S } from "../api/client";
import { Command } from "../parts/command";
import { decimal, exact, span } from "../parts/format";
import { Failed, Waiting } from "../parts/parts";

type Recovery = S["Recovery"];

/** The style of each line: they differ in their dashes without colour. */
const strokes = [
  { dash: "", text: "text-ink" },
  { dash: "7 4", text: "text-watch" },
  { dash: "2 4", text: "text-replace" },
  { dash: "11 4 2 4", text: "text-soft" },
];

/** The most that are compared at once: more lines in one picture are too many to follow. */
export const mostCompared = strokes.length;

const took = (r: Recovery) => Date.parse(r.ended_at ?? r.seen_at ?? r.started_at) - Date.parse(r.started_at);

/** The rows of the comparison: a name, and the value of each recovery. */
const rows: [string, (r: Recovery) => string][] = [
  ["kind", (r) => `${r.kind}${r.tail ? ` of ${r.tail}` : ""}, ${r.state}`],
  ["began", (r) => exact(new Date(r.started_at))],
  ["took", (r) => span(took(r))],
  ["data", (r) => decimal(r.done_bytes)],
  ["mean rate", (r) => (took(r) > 0 ? `${decimal(r.done_bytes / (took(r) / 1000))}/s` : "")],
  ["found, repaired, not", (r) => `${r.found}, ${r.repaired}, ${r.unrepairable}`],
  [
    "priorities",
    (r) =>
      (r.priorities ?? [])
        .map(
          (p) =>
            p.priority +
            (p.rate ? ` ${decimal(p.rate)}/s` : "") +
            (p.latency_seconds ? `, reads ${(1000 * p.latency_seconds).toFixed(1)} ms` : ""),
        )
        .join("; "),
  ],
  ["held up by", (r) => [r.slowest, r.why].filter(Boolean).join(" ")],
  [
    "members read most",
    (r) =>
      [...(r.flows ?? [])]
        .sort((a, b) => b.read_bytes - a.read_bytes)
        .slice(0, 3)
        .filter((f) => f.read_bytes > 0)
        .map((f) => `${f.tail || f.slot} ${decimal(f.read_bytes)}`)
        .join(", "),
  ],
];

/** Compare shows recoveries side by side: their progress over time, and their other properties. */
export function Compare({ ids }: { ids: string[] }) {
  const all = useQueries({
    queries: ids.map((id) => ({
      queryKey: ["recoveries", id],
      queryFn: () => got(client.GET("/recoveries/{id}", { params: { path: { id } } })),
    })),
  });
  const failed = all.find((q) => q.error);
  if (failed) return <Failed what="A recovery" error={failed.error!} again={() => void failed.refetch()} />;
  const known = all.flatMap((q) => (q.data ? [q.data] : []));
  if (known.length < ids.length) return <Waiting rows={4} />;
  const longest = Math.max(...known.map(took), 1);
  return (
    <section className="sheet mb-6 space-y-4 p-4" aria-label="Compared">
      <svg
        viewBox="0 0 700 190"
        className="w-full max-w-4xl"
        role="img"
        aria-label={`Share done over time: ${ids.length} recoveries`}
      >
        <g className="text-line" stroke="currentColor">
          {[0, 0.5, 1].map((y) => (
            <line key={y} x1="52" x2="690" y1={160 - 150 * y} y2={160 - 150 * y} />
          ))}
        </g>
        <g className="text-soft" fill="currentColor" fontSize="12">
          {[0, 0.5, 1].map((y) => (
            <text key={y} x="44" y={164 - 150 * y} textAnchor="end">
              {100 * y} %
            </text>
          ))}
          {[0, 0.5, 1].map((x) => (
            <text key={x} x={52 + 638 * x} y="180" textAnchor={x === 0 ? "start" : x === 1 ? "end" : "middle"}>
              {x === 0 ? "begin" : span(longest * x)}
            </text>
          ))}
        </g>
        {known.map((r, i) => (
          <polyline
            key={r.id}
            className={strokes[i]!.text}
            fill="none"
            stroke="currentColor"
            strokeWidth="2.5"
            strokeDasharray={strokes[i]!.dash}
            points={(r.course ?? [])
              .filter((x) => x.todo_bytes > 0)
              .map(
                (x) =>
                  `${52 + (638 * (Date.parse(x.at) - Date.parse(r.started_at))) / longest},${160 - (150 * x.done_bytes) / x.todo_bytes}`,
              )
              .join(" ")}
          />
        ))}
      </svg>
      <div className="overflow-x-auto">
        <table className="w-full text-left">
          <thead>
            <tr>
              <td />
              {known.map((r, i) => (
                <th key={r.id} scope="col" className="p-1 align-bottom">
                  <svg width="44" height="8" aria-hidden className={`inline ${strokes[i]!.text}`}>
                    <line
                      x2="44"
                      y1="4"
                      y2="4"
                      stroke="currentColor"
                      strokeWidth="2.5"
                      strokeDasharray={strokes[i]!.dash}
                    />
                  </svg>{" "}
                  {r.pool}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows
              .filter(([, of]) => known.some((r) => of(r) !== ""))
              .map(([name, of]) => (
                <tr key={name} className="border-t border-line">
                  <th scope="row" className="p-1 pr-4 font-normal whitespace-nowrap text-soft">
                    {name}
                  </th>
                  {known.map((r) => (
                    <td key={r.id} className="num p-1 align-top">
                      {of(r)}
                    </td>
                  ))}
                </tr>
              ))}
          </tbody>
        </table>
      </div>
      <Command line={`lantern recoveries compare ${ids.join(" ")}`} />
    </section>
  );
}
