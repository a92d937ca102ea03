import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, got, type S } from "../api/client";
import { useNow } from "../api/live";
import { decimal, finish, percent } from "./format";

export const usePools = () => useQuery({ queryKey: ["pools"], queryFn: () => got(client.GET("/pools")) });

/**
 * Horizon is the whole fleet in one band: a block a pool, as wide as its capacity, as high as its margin, filled as
 * it is full.
 */
export function Horizon() {
  const pools = usePools();
  const total = (pools.data ?? []).reduce((n, p) => n + p.capacity_bytes, 0);
  return (
    <nav
      aria-label="Horizon: all pools, the least margin first"
      className="no-print h-[4.5rem] border-b border-line bg-sheet"
    >
      <ul className="mx-auto flex h-full max-w-6xl items-end gap-[3px] px-4">
        {(pools.data ?? []).map((p) => (
          <Block key={p.id} pool={p} share={total ? p.capacity_bytes / total : 0} />
        ))}
      </ul>
    </nav>
  );
}

const step = 11;

function Block({ pool: p, share }: { pool: S["Pool"]; share: number }) {
  const now = useNow();
  const known = p.margin.known && !p.stale;
  const steps = Math.max(0, Math.min(3, p.margin.members));
  const full = p.capacity_bytes ? p.used_bytes / p.capacity_bytes : 0;
  const r = p.recovery?.state === "running" || p.recovery?.state === "paused" ? p.recovery : undefined;
  const below = known && p.margin.members < p.full_margin;
  const label = `${p.name}: ${p.margin.words}${p.not_seen_since ? ", not reported any more" : p.stale ? ", as last heard" : ""}; ${p.used_unknown ? `${decimal(p.capacity_bytes)}, how full is not known` : `${Math.round(full * 100)} % of ${decimal(p.capacity_bytes)} full`}${r ? `; ${r.kind} at ${percent(r.share)}, ${finish(now, r.finish)}` : ""}`;
  return (
    <li style={{ flexGrow: Math.max(share, 0.04) * 100 }} className="min-w-11 basis-0">
      <Link
        to={`/pools/${encodeURIComponent(p.name)}`}
        aria-label={label}
        title={label}
        className="relative block overflow-hidden hover:no-underline"
        style={{ height: 30 + steps * step }}
      >
        {Array.from({ length: steps }, (_, i) => (
          <span
            key={i}
            aria-hidden
            className="absolute inset-x-0 border-t-2 border-edge bg-raised"
            style={{ top: i * step, height: step }}
          />
        ))}
        <span
          aria-hidden
          className={`absolute inset-x-0 bottom-0 h-[30px] border-t-2 ${known ? (below ? "border-replace" : "border-edge") : "border-dotted border-soft"}`}
        >
          <span className="absolute inset-0 bg-raised" />
          <span className="absolute inset-y-0 left-0 bg-level" style={{ width: `${full * 100}%` }} />
          {r && <span className="absolute inset-y-0 w-[3px] bg-seam" style={{ left: `${r.share * 100}%` }} />}
        </span>
        <span aria-hidden className="absolute inset-x-1.5 bottom-1 truncate text-[0.8rem] leading-tight">
          {p.name}
          {below && <b className="text-ink"> ▾</b>}
        </span>
      </Link>
    </li>
  );
}
