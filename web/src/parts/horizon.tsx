import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, got, type S } from "../api/client";
import { useNow } from "../api/live";
import { decimal, finish, percent } from "./format";

export const usePools = () => useQuery({ queryKey: ["pools"], queryFn: () => got(client.GET("/pools")) });

/** most is how many blocks there is room for. */
const most = 20;

/** useRooms gives the room of each host that has one. */
export function useRooms(wanted: boolean) {
  const hosts = useQuery({ queryKey: ["hosts"], queryFn: () => got(client.GET("/hosts")), enabled: wanted });
  return new Map((hosts.data ?? []).map((h) => [h.name, h.room ?? ""]));
}

/** placeOf is where a pool is: the room of its first host, or that host. */
export const placeOf = (p: S["Pool"], rooms: Map<string, string>) =>
  rooms.get(p.hosts[0] ?? "") || (p.hosts[0] ?? "nowhere");

/**
 * Horizon is the whole fleet in one band: a block a pool, as wide as its capacity, as high as its margin, filled as
 * it is full. Where there are more pools than there is room for, a block is a room with all its pools.
 */
export function Horizon() {
  const pools = usePools().data ?? [];
  const many = pools.length > most;
  const rooms = useRooms(many);
  const total = pools.reduce((n, p) => n + p.capacity_bytes, 0);
  const share = (bytes: number) => (total ? bytes / total : 0);
  return (
    <nav
      aria-label={`Horizon: all pools${many ? ", by room" : ""}, the least margin first`}
      className="no-print h-[4.5rem] border-b border-line bg-sheet"
    >
      <ul className="mx-auto flex h-full max-w-6xl items-end gap-[3px] overflow-x-auto overflow-y-hidden px-4">
        {many
          ? together(pools, (p) => placeOf(p, rooms)).map((g) => (
              <GroupBlock key={g.name} group={g} share={share(g.capacity)} />
            ))
          : pools.map((p) => <PoolBlock key={p.id} pool={p} share={share(p.capacity_bytes)} />)}
      </ul>
    </nav>
  );
}

/** A Group is pools that are shown as one: the one that is worst off says how high it is. */
export type Group = {
  name: string;
  to: string;
  pools: number;
  known: boolean;
  margin: number;
  below: number;
  moving: number;
  capacity: number;
  /** What is used, and of how much that is known. */
  used: number;
  measured: number;
};

/** together puts pools, of which the one that is worst off comes first, into groups, and the last of many groups into one. */
export function together(pools: S["Pool"][], name: (p: S["Pool"]) => string): Group[] {
  const groups = new Map<string, Group>();
  const add = (key: string, to: string, g: Omit<Group, "name" | "to">) => {
    const was = groups.get(key);
    groups.set(
      key,
      was
        ? {
            ...was,
            pools: was.pools + g.pools,
            known: was.known && g.known,
            margin: Math.min(was.margin, g.margin),
            below: was.below + g.below,
            moving: was.moving + g.moving,
            capacity: was.capacity + g.capacity,
            used: was.used + g.used,
            measured: was.measured + g.measured,
          }
        : { ...g, name: key, to },
    );
  };
  for (const p of pools) {
    const known = p.margin.known && !p.stale;
    const state = p.recovery?.state;
    add(name(p), `/pools?place=${encodeURIComponent(name(p))}`, {
      pools: 1,
      known,
      margin: p.margin.members,
      below: known && p.margin.members < p.full_margin ? 1 : 0,
      moving: state === "running" || state === "paused" ? 1 : 0,
      capacity: p.capacity_bytes,
      used: p.used_unknown ? 0 : p.used_bytes,
      measured: p.used_unknown ? 0 : p.capacity_bytes,
    });
  }
  const all = [...groups.values()];
  if (all.length <= most) return all;
  groups.clear();
  for (const g of all.slice(0, most - 1)) groups.set(g.name, g);
  for (const g of all.slice(most - 1)) add(`${all.length - most + 1} more places`, "/pools", g);
  return [...groups.values()];
}

const step = 11;

function GroupBlock({ group: g, share }: { group: Group; share: number }) {
  const worst = g.margin < 0 ? "one has lost data" : g.margin === 0 ? "one cannot lose another drive" : "";
  const margin = [worst, g.known ? "" : "of some the margin is unknown"].filter(Boolean).join(", ");
  const full = g.measured ? g.used / g.measured : 0;
  const filled = g.measured ? `${Math.round(full * 100)} % of ${decimal(g.measured)} full` : "how full is not known";
  const label =
    `${g.name}: ${g.pools} ${g.pools === 1 ? "pool" : "pools"}, ${margin || `each can lose ${g.margin} more`}` +
    `${g.below ? `; ${g.below} below their whole margin` : ""}${g.moving ? `; ${g.moving} recovering` : ""}; ` +
    `${filled}${g.measured < g.capacity && g.measured ? `, ${decimal(g.capacity - g.measured)} not known` : ""}`;
  return (
    <Block
      to={g.to}
      label={label}
      name={`${g.name} (${g.pools})`}
      share={share}
      known={g.known}
      below={g.below > 0}
      margin={g.margin}
      full={full}
      seams={[]}
    />
  );
}

function PoolBlock({ pool: p, share }: { pool: S["Pool"]; share: number }) {
  const now = useNow();
  const known = p.margin.known && !p.stale;
  const full = p.capacity_bytes ? p.used_bytes / p.capacity_bytes : 0;
  const r = p.recovery?.state === "running" || p.recovery?.state === "paused" ? p.recovery : undefined;
  const label = `${p.name}: ${p.margin.words}${p.not_seen_since ? ", not reported any more" : p.stale ? ", as last reported" : ""}; ${p.used_unknown ? `${decimal(p.capacity_bytes)}, how full is not known` : `${Math.round(full * 100)} % of ${decimal(p.capacity_bytes)} full`}${r ? `; ${r.kind} at ${percent(r.share)}, ${finish(now, r.finish)}` : ""}`;
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
  to,
  label,
  name,
  share,
  known,
  below,
  margin,
  full,
  seams,
}: {
  to: string;
  label: string;
  name: string;
  share: number;
  known: boolean;
  below: boolean;
  margin: number;
  full: number;
  seams: number[];
}) {
  const steps = Math.max(0, Math.min(3, margin));
  return (
    <li style={{ flexGrow: Math.max(share, 0.04) * 100 }} className="min-w-11 basis-0">
      <Link
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
        <span
          aria-hidden
          className={`absolute inset-x-0 bottom-0 h-[30px] border-t-2 ${known ? (below ? "border-replace" : "border-edge") : "border-dotted border-soft"}`}
        >
          <span className="absolute inset-0 bg-raised" />
          <span className="absolute inset-y-0 left-0 bg-level" style={{ width: `${full * 100}%` }} />
          {seams.map((at) => (
            <span key={at} className="absolute inset-y-0 w-[3px] bg-seam" style={{ left: `${at * 100}%` }} />
          ))}
        </span>
        <span aria-hidden className="absolute inset-x-1.5 bottom-1 truncate text-[0.8rem] leading-tight">
          {name}
          {below && <b className="text-ink"> ▾</b>}
        </span>
      </Link>
    </li>
  );
}
