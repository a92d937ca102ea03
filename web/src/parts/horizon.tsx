import { useQuery } from "@tanstack/react-query";
import { client, got, type S } from "../api/client";
import { useNow } from "../api/live";
import { count, decimal, finish, percent } from "./format";
import { To } from "./to";

/** useHorizon gives all pools in a few blocks. */
export const useHorizon = () => useQuery({ queryKey: ["horizon"], queryFn: () => got(client.GET("/horizon")) });

/** nameOf names a block: a pool, a place, or the rest of the places. */
export const nameOf = (b: S["HorizonBlock"]) => b.name || `${b.places ?? 0} more places`;

/**
 * Horizon is the whole fleet in one band: a block for each pool, its width for the capacity, its height for the
 * margin, its fill for how full it is. If there are too many pools, a block is a room with all its pools.
 */
export function Horizon() {
  const h = useHorizon().data;
  const blocks = h?.blocks ?? [];
  const total = blocks.reduce((n, b) => n + b.capacity_bytes, 0);
  const share = (bytes: number) => (total ? bytes / total : 0);
  const grouped = !h?.grouped ? "" : blocks[0]?.site ? ", by site" : ", by room";
  return (
    <nav
      aria-label={`Horizon: all pools${grouped}, the least margin first`}
      className="no-print h-[4.5rem] border-b border-line bg-sheet"
    >
      <ul
        className={
          "mx-auto flex h-full max-w-6xl items-end gap-[3px] overflow-x-auto overflow-y-hidden px-4 " +
          "2xl:max-w-[110rem]"
        }
      >
        {blocks.map((b) =>
          b.pool ? (
            <PoolBlock key={b.pool.id} pool={b.pool} share={share(b.capacity_bytes)} />
          ) : (
            <GroupBlock key={b.name} group={b} share={share(b.capacity_bytes)} />
          ),
        )}
      </ul>
    </nav>
  );
}

const step = 11;

function GroupBlock({ group: g, share }: { group: S["HorizonBlock"]; share: number }) {
  const name = nameOf(g);
  return (
    <Block
      site={g.site}
      to={g.site ? "/" : g.name ? `/pools?place=${encodeURIComponent(g.name)}` : "/pools"}
      label={labelOf(g)}
      name={name}
      count={g.pools}
      share={share}
      known={g.known}
      below={g.below > 0}
      margin={g.known ? g.margin : Math.min(0, g.margin)} // an unknown margin must not look like a high one
      full={g.measured_bytes ? g.used_bytes / g.measured_bytes : 0}
      seams={[]}
    />
  );
}

/** labelOf describes a block of several pools in words. */
export function labelOf(g: S["HorizonBlock"]): string {
  const worst = g.margin < 0 ? "one has lost data" : g.margin === 0 ? "one cannot lose another drive" : "";
  const margin = [worst, g.known ? "" : "of some the margin is unknown"].filter(Boolean).join(", ");
  const full = g.measured_bytes ? g.used_bytes / g.measured_bytes : 0;
  const filled = g.measured_bytes
    ? `${Math.round(full * 100)} % of ${decimal(g.measured_bytes)} full`
    : "how full is not known";
  const rest = g.capacity_bytes - g.measured_bytes;
  return (
    `${nameOf(g)}: ${count(g.pools, "pool")}, ${margin || `each can lose ${g.margin} more`}` +
    `${g.below ? `; ${g.below} below their whole margin` : ""}${g.moving ? `; ${g.moving} recovering` : ""}; ` +
    `${filled}${rest > 0 && g.measured_bytes ? `, ${decimal(rest)} not known` : ""}`
  );
}

function PoolBlock({ pool: p, share }: { pool: S["Pool"]; share: number }) {
  const now = useNow();
  const known = p.margin.known && !p.stale;
  const full = p.capacity_bytes ? p.used_bytes / p.capacity_bytes : 0;
  const r = p.recovery?.state === "running" || p.recovery?.state === "paused" ? p.recovery : undefined;
  const old = p.not_seen_since ? ", not reported any more" : p.stale ? ", as last reported" : "";
  const filled = p.used_unknown
    ? `${decimal(p.capacity_bytes)}, how full is not known`
    : `${Math.round(full * 100)} % of ${decimal(p.capacity_bytes)} full`;
  const moves = r ? `; ${r.kind} at ${percent(r.share)}, ${finish(now, r.finish)}` : "";
  const label = `${p.name}: ${p.margin.words}${old}; ${filled}${moves}`;
  return (
    <Block
      to={`/pools/${encodeURIComponent(p.name)}`}
      label={label}
      name={p.name}
      share={share}
      known={known}
      below={known && p.margin.members < p.full_margin}
      margin={p.margin.members}
      full={full}
      seams={r ? [r.share] : []}
    />
  );
}

function Block({
  site,
  to,
  label,
  name,
  count,
  share,
  known,
  below,
  margin,
  full,
  seams,
}: {
  site?: string;
  to: string;
  label: string;
  name: string;
  /** How many pools it stands for, where that is not one. */
  count?: number;
  share: number;
  known: boolean;
  below: boolean;
  margin: number;
  full: number;
  seams: number[];
}) {
  const steps = Math.max(0, Math.min(3, margin));
  const edge = !known ? "border-dotted border-soft" : below ? "border-replace" : "border-edge";
  return (
    <li style={{ flexGrow: Math.max(share, 0.04) * 100 }} className="@container min-w-11 basis-0">
      <To
        site={site}
        to={to}
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
        <span aria-hidden className={`absolute inset-x-0 bottom-0 h-[30px] border-t-2 ${edge}`}>
          <span className="absolute inset-0 bg-raised" />
          <span className="absolute inset-y-0 left-0 bg-level" style={{ width: `${full * 100}%` }} />
          {seams.map((at) => (
            <span key={at} className="absolute top-0 h-[10px] w-1 bg-seam" style={{ left: `${at * 100}%` }} />
          ))}
        </span>
        <span aria-hidden className="absolute inset-x-1.5 bottom-1 flex gap-1 text-[0.8rem] leading-tight">
          <span className="truncate">{name}</span>
          {count !== undefined && <span className="num hidden shrink-0 @min-[7rem]:inline">({count})</span>}
          {below && <b className="shrink-0 text-ink">▾</b>}
        </span>
      </To>
    </li>
  );
}
