import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { client, got, type S } from "../api/client";
import { Command } from "../parts/command";
import { decimal } from "../parts/format";
import { Ago, Empty, Failed, Waiting } from "../parts/parts";

const month = (at?: string) => (at ? at.slice(0, 7) : "");

/** between gives the dates at which a pool is full; days is the number of days with data. */
export function between(days: number, c: { soonest?: string; latest?: string }) {
  if (days === 0) return "known for too short a time";
  if (!c.soonest) return "not foreseen";
  if (!c.latest) return `${month(c.soonest)} or later`;
  return month(c.soonest) === month(c.latest) ? month(c.soonest) : `${month(c.soonest)} to ${month(c.latest)}`;
}

const sizes = [0, 4, 8, 12, 16, 20, 24, 32];

/** Capacity lists when pools will be full, and what would add room. */
export function Capacity() {
  const [size, setSize] = useState(0);
  const q = useQuery({
    queryKey: ["capacity", size],
    queryFn: () => got(client.GET("/capacity", { params: { query: size ? { drive_bytes: size * 1e12 } : {} } })),
    placeholderData: (before) => before,
  });
  if (q.error) return <Failed what="When pools are full" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting rows={4} />;
  return (
    <section className="mb-6" aria-label="When pools are full">
      <div className="mb-2 flex flex-wrap items-center gap-x-4">
        <h2>When pools are full</h2>
        <label className="flex items-center gap-2 text-soft">
          larger drives of
          <select className="field w-auto" value={size} onChange={(e) => setSize(Number(e.target.value))}>
            {sizes.map((n) => (
              <option key={n} value={n}>
                {n === 0 ? "twice the size" : `${n} TB`}
              </option>
            ))}
          </select>
        </label>
      </div>
      {q.data.length === 0 && <Empty>No pool was reported yet.</Empty>}
      <div className="sheet divide-y divide-line">
        {q.data.map((c) => (
          <Pool key={c.pool} c={c} />
        ))}
      </div>
      <p className="mt-2 text-soft">
        If they go on growing as they did. What more drives add is reckoned from sizes and protection; a pool system may
        keep back more.
      </p>
      <Command line={`lantern capacity${size ? ` --size ${size}TB` : ""}`} />
    </section>
  );
}

function Pool({ c }: { c: S["PeriodCapacity"] }) {
  return (
    <div className="grid gap-x-4 gap-y-1 p-3 sm:grid-cols-[13rem_1fr]">
      <p>
        <Link to={`/pools/${encodeURIComponent(c.pool)}`} className="font-semibold underline underline-offset-2">
          {c.pool}
        </Link>
        <span className="block text-soft">
          {c.used_unknown
            ? `how full it is, is not known; holds ${decimal(c.capacity_bytes)}`
            : `${Math.round((100 * c.used_bytes) / Math.max(1, c.capacity_bytes))} % of ${decimal(c.capacity_bytes)}`}
        </span>
        {c.stale && (
          <span className="block font-semibold">
            as last reported <Ago at={c.seen_at} />
          </span>
        )}
      </p>
      <div className="space-y-1">
        <p>
          Full: <b>{between(c.days, c)}</b>
          {c.days > 0 && (
            <span className="text-soft">
              ; {(c.growth_bytes_per_day ?? 0) < 0 ? "shrinks by " : "grows by "}
              {decimal(Math.abs(Math.round(c.growth_bytes_per_day ?? 0)))} a day, over {c.days} days
            </span>
          )}
        </p>
        {!c.ways_known && <p className="text-soft">What more drives would give is not known.</p>}
        {c.ways.map((w) => (
          <p key={w.kind} className="text-soft">
            {w.says}: <b className="text-ink">+{decimal(w.adds_bytes)}</b>, full {between(c.days, w)}
          </p>
        ))}
      </div>
    </div>
  );
}
