import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type S } from "../api/client";
import { useMe } from "../api/live";
import { root } from "../api/root";
import { Command } from "../parts/command";
import { count, decimal } from "../parts/format";
import { Empty, Failed, Title, Waiting } from "../parts/parts";
import { Capacity } from "./capacity";

const ways = ["model", "age", "batch", "supplier", "enclosure", "position"];
const counted = [
  ["replace", "a finding of verdict replace or dead"],
  ["dead", "only a finding that it is dead"],
  ["gone", "it was sent back or destroyed"],
];

/** day is a moment in the form of a field for dates. */
const day = (at: Date) => at.toISOString().slice(0, 10);

/** ReportsPage shows what to buy and how often drives fail, and makes the report on a period. */
export default function ReportsPage() {
  const hq = useMe().data?.headquarters ?? false;
  return (
    <>
      <Title>Reports</Title>
      <Period hq={hq} />
      {!hq && (
        <>
          <Capacity />
          <Advice />
          <Failures />
        </>
      )}
    </>
  );
}

/** Period makes the page for printing. */
function Period({ hq }: { hq: boolean }) {
  const [from, setFrom] = useState(() => day(new Date(Date.now() - 30 * 864e5)));
  const [to, setTo] = useState(() => day(new Date(Date.now() + 864e5)));
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const query = new URLSearchParams({ zone });
  if (from) query.set("from", new Date(from).toISOString());
  if (to) query.set("to", new Date(to).toISOString());
  return (
    <section className="sheet mb-6 space-y-3 p-4" aria-label="Report on a period">
      <p>
        What failed and was replaced, tests, notices, capacity, warranty, money
        {hq && ", over all sites"}: one page that prints.
        {hq && " It names the sites that do not answer. Each site's own page of reports has more."}
      </p>
      <div className="flex flex-wrap items-center gap-3">
        <label className="flex items-center gap-2 text-soft">
          from
          <input type="date" className="field w-auto" value={from} onChange={(e) => setFrom(e.target.value)} />
        </label>
        <label className="flex items-center gap-2 text-soft">
          to
          <input type="date" className="field w-auto" value={to} onChange={(e) => setTo(e.target.value)} />
        </label>
        <a className="button main" target="_blank" rel="noreferrer" href={`${root}/api/v1/report/page?${query}`}>
          Open the report
        </a>
      </div>
      <Command line={`lantern report month --from ${from} --to ${to} --html report.html`} />
    </section>
  );
}

/** Advice lists the spares to keep and to buy. */
function Advice() {
  const [weeks, setWeeks] = useState(2);
  const q = useQuery({
    queryKey: ["advice", weeks],
    queryFn: () => got(client.GET("/stock/advice", { params: { query: { lead_days: 7 * weeks } } })),
    placeholderData: (before) => before,
  });
  if (q.error) return <Failed what="What to buy" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting rows={3} />;
  const a = q.data;
  return (
    <section className="mb-6" aria-label="What to buy">
      <div className="mb-2 flex flex-wrap items-center gap-x-4">
        <h2>What to buy</h2>
        <label className="flex items-center gap-2 text-soft">
          for a delivery time of
          <select className="field w-auto" value={weeks} onChange={(e) => setWeeks(Number(e.target.value))}>
            {[1, 2, 4, 8, 16].map((n) => (
              <option key={n} value={n}>
                {count(n, "week")}
              </option>
            ))}
          </select>
        </label>
      </div>
      {a.kinds.length === 0 && <Empty>No pool has a drive yet.</Empty>}
      <div className="sheet divide-y divide-line">
        {a.kinds.map((k) => (
          <div key={k.medium + k.capacity_bytes} className="grid gap-x-4 p-3 sm:grid-cols-[9rem_13rem_1fr]">
            <p className={k.buy ? "text-lg font-semibold" : "text-soft"}>{k.buy ? `Buy ${k.buy}` : "None to buy"}</p>
            <p>
              <b>{decimal(k.capacity_bytes)}</b> {k.medium}
              <span className="block text-soft">
                hold {k.hold}, {k.stock.length} in stock
              </span>
            </p>
            <p className="text-soft">{k.says}</p>
          </div>
        ))}
      </div>
      <ul className="mt-2 space-y-1">
        {a.kinds.flatMap((k) =>
          k.other.map((x) => (
            <li key={x.tail}>
              Not counted: <b>{x.tail}</b>, {x.says}.
            </li>
          )),
        )}
        {a.cover
          .filter((c) => c.open.length > 0)
          .map((c) => (
            <li key={c.pool}>
              <b>{c.pool}</b>:{" "}
              {c.says ?? `no spare and no stock known to fit ${c.open.length} of ${count(c.places, "place")}`}.
            </li>
          ))}
      </ul>
    </section>
  );
}

const percent = (v: number) => (v > 100 ? "any" : `${(100 * v).toFixed(1)} %`);

/** Failures are rates with their ranges, drawn on one scale. */
function Failures() {
  const [by, setBy] = useState("model");
  const [counts, setCounts] = useState("replace");
  const q = useQuery({
    queryKey: ["failures", by, counts],
    queryFn: () => got(client.GET("/failures", { params: { query: { by, counts } } })),
    placeholderData: (before) => before,
  });
  if (q.error) return <Failed what="How often drives fail" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting rows={5} />;
  const f = q.data;
  const rows = [...f.groups, { ...f.all, name: "all" }];
  // The range of a few drives may be so wide that it would hide all others, so the scale ends after the rates.
  const scale = Math.max(0.02, 2.5 * Math.max(...rows.map((r) => r.per_year)));
  return (
    <section aria-label="How often drives fail">
      <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h2>How often drives fail</h2>
        <label className="flex items-center gap-2 text-soft">
          by
          <select className="field w-auto" value={by} onChange={(e) => setBy(e.target.value)}>
            {ways.map((w) => (
              <option key={w}>{w}</option>
            ))}
          </select>
        </label>
        <label className="flex min-w-0 max-w-full items-center gap-2 text-soft">
          what counts
          <select
            className="field w-auto min-w-0 max-w-full"
            value={counts}
            onChange={(e) => setCounts(e.target.value)}
          >
            {counted.map(([value, words]) => (
              <option key={value} value={value}>
                {words}
              </option>
            ))}
          </select>
        </label>
      </div>
      <div className="sheet overflow-x-auto">
        <table className="w-full text-left">
          <thead>
            <tr className="text-soft">
              <th scope="col" className="px-3 py-2 font-normal">
                {f.by}
              </th>
              <th scope="col" className="px-3 py-2 text-right font-normal">
                drives
              </th>
              <th scope="col" className="px-3 py-2 text-right font-normal">
                years
              </th>
              <th scope="col" className="px-3 py-2 text-right font-normal">
                failures
              </th>
              <th scope="col" className="px-3 py-2 text-right font-normal">
                a year
              </th>
              <th scope="col" className="w-2/5 px-3 py-2 font-normal">
                at least, and at most
              </th>
            </tr>
          </thead>
          <tbody>
            {rows.map((r) => (
              <Rate key={r.name} rate={r} scale={scale} />
            ))}
          </tbody>
        </table>
      </div>
      <p className="mt-2 text-soft">
        {f.says}. The true rate lies within the range with {(100 * f.confidence).toFixed(0)} % confidence; few drives or
        years give a wide one, which is no alarm.
      </p>
    </section>
  );
}

function Rate({ rate: r, scale }: { rate: S["FailureRate"]; scale: number }) {
  const at = (v: number) => Math.min(100, (100 * v) / scale);
  return (
    <tr className={`border-t border-line ${r.name === "all" ? "font-semibold" : ""}`}>
      <td className="px-3 py-1.5">{r.name}</td>
      <td className="num px-3 py-1.5 text-right">{r.drives}</td>
      <td className="num px-3 py-1.5 text-right">{r.drive_years.toFixed(1)}</td>
      <td className="num px-3 py-1.5 text-right">{r.failures}</td>
      <td className="num px-3 py-1.5 text-right">{percent(r.per_year)}</td>
      <td className="px-3 py-1.5">
        <span className="flex items-center gap-3">
          <svg viewBox="0 0 100 10" preserveAspectRatio="none" className="h-3 grow" aria-hidden>
            <rect x="0" y="4.5" width="100" height="1" fill="var(--color-line)" />
            <rect
              x={at(r.low)}
              y="3"
              width={Math.max(0.5, at(r.high) - at(r.low))}
              height="4"
              fill="var(--color-edge)"
            />
            <rect x={Math.min(99, at(r.per_year))} y="0" width="1" height="10" fill="var(--color-ink)" />
          </svg>
          <span className="num w-32 shrink-0 text-sm text-soft">
            {percent(r.low)} to {percent(r.high)}
          </span>
        </span>
      </td>
    </tr>
  );
}
