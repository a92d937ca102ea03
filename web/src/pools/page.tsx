import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useMe, useNow } from "../api/live";
import { Command } from "../parts/command";
import { Rename, useDo } from "../parts/do";
import { decimal, finish, percent } from "../parts/format";
import { Ago, Failed, Seam, Shape, Title, Waiting, Lasting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { MarginWords } from "./margin";
import { Prospect } from "./prospect";
import { Work } from "./work";

export default function PoolPage() {
  const { pool: name = "" } = useParams();
  const now = useNow();
  const me = useMe().data;
  const rename = useDo("pools", "drives", "drive", "round", "recoveries");
  const tell = useTell();
  const go = useNavigate();
  const queries = useQueryClient();
  const pool = useQuery({
    queryKey: ["pools", name],
    queryFn: () => got(client.GET("/pools/{pool}", { params: { path: { pool: name } } })),
  });
  const [params, setParams] = useSearchParams();
  // The question is in the address, so that it can be sent to a colleague.
  const asking = params.has("whatif");
  const lose = params.getAll("lose");
  const ask = (on: boolean, slots: string[]) =>
    setParams(on ? [["whatif", ""], ...slots.map((s) => ["lose", s] as [string, string])] : [], { replace: true });
  const take = asking
    ? (slot: string) => ask(true, lose.includes(slot) ? lose.filter((s) => s !== slot) : [...lose, slot])
    : undefined;
  const act = useMutation({
    mutationFn: (action: "scrub" | "rebalance" | "stop" | "forget") =>
      got(client.POST("/pools/{pool}/actions", { params: { path: { pool: name }, ...once() }, body: { action } })),
    onSuccess: (o) => {
      tell((o.kind as string) === "forget" ? `${o.says}.` : `${o.kind} was ordered on ${o.host}.`);
      if ((o.kind as string) === "forget") void go("/pools");
      void queries.invalidateQueries({ queryKey: ["pools"] });
    },
    onError: (e) => tell(e.message, true),
  });
  if (pool.error) return <Failed what="The pool" error={pool.error} again={() => void pool.refetch()} />;
  if (!pool.data) return <Waiting rows={5} />;
  const p = pool.data;
  const r = p.recovery;
  const live = r?.state === "running" || r?.state === "paused";
  return (
    <>
      <Title
        aside={
          <>
            {p.kind} on {p.hosts.join(", ")} · seen <Ago at={p.seen_at} />
            {p.stale && (p.not_seen_since ? " (not reported any more)" : " (its host does not report)")}
          </>
        }
      >
        {p.name}
      </Title>
      <div className="sheet mb-5 grid items-center gap-5 p-4 sm:grid-cols-[1fr_1fr_auto]">
        <MarginWords pool={p} />
        <p className="num text-soft">
          {p.used_unknown ? (
            <>{decimal(p.capacity_bytes)}; how much of it is used is not known</>
          ) : (
            <>
              {decimal(p.used_bytes)} of {decimal(p.capacity_bytes)} used,{" "}
              {Math.round((100 * p.used_bytes) / Math.max(1, p.capacity_bytes))} %
            </>
          )}
        </p>
        <span className="flex flex-wrap gap-2">
          <button
            className={`button small ${asking ? "bg-raised" : ""}`}
            aria-pressed={asking}
            onClick={() => ask(!asking, [])}
          >
            What if
          </button>
          {p.swap && (
            <Link className="button main small" to={`/swaps/${p.swap}`}>
              Open the swap
            </Link>
          )}
          {live
            ? (r!.kind === "scrub" || r!.kind === "rebalance") && (
                <button className="button small" onClick={() => act.mutate("stop")}>
                  Stop the {r!.kind}
                </button>
              )
            : !p.watched &&
              !p.not_seen_since &&
              p.offers?.includes("scrub") && (
                <button className="button small" disabled={act.isPending} onClick={() => act.mutate("scrub")}>
                  Scrub
                </button>
              )}
          {p.not_seen_since && (
            <button className="button small" disabled={act.isPending} onClick={() => act.mutate("forget")}>
              Forget this pool
            </button>
          )}
        </span>
        {r && live && (
          <Link to={`/recoveries/${r.id}`} className="col-span-full grid items-center gap-x-4 sm:grid-cols-[20rem_1fr]">
            <Seam share={r.share} label={`${r.kind} of ${p.name}`} />
            <span className="num">
              {r.kind} {percent(r.share)}, {finish(now, r.finish)}
            </span>
          </Link>
        )}
      </div>
      {p.not_seen_since && (
        <p role="status" className="sheet mb-5 border-l-4 border-l-replace px-4 py-3">
          <b>
            Its host has not reported this pool <Lasting since={p.not_seen_since} />.
          </b>{" "}
          Whether it is whole is not known; what is shown is how it last was. Find out whether it was stopped, unmounted
          or could not be assembled.
        </p>
      )}
      {p.wrong && (
        <p role="status" className="sheet mb-5 border-l-4 border-l-replace px-4 py-3">
          <b>Inconsistent report:</b> {p.wrong}. Its margin counts as unknown.
        </p>
      )}
      {(p.witness?.differs?.length ?? 0) > 0 && (
        <div role="status" className="sheet mb-5 border-l-4 border-l-replace px-4 py-3">
          <b>The live view and the metadata on the members differ.</b> Pull nothing before you know which is right.
          <ul className="mt-1 list-disc pl-5">
            {p.witness!.differs!.map((x) => (
              <li key={x}>{x}</li>
            ))}
          </ul>
        </div>
      )}
      {p.watched && <p className="mb-5 text-soft">Watch only: swaps in this pool have manual steps.</p>}
      {p.inconsistent && (
        <p className="sheet mb-5 border-l-4 border-l-replace px-4 py-3">
          It changed while it was read, or its report is not plausible: what is shown may be inconsistent.
        </p>
      )}
      {asking && <Prospect pool={p} lose={lose} clear={() => ask(true, [])} done={() => ask(false, [])} />}
      {p.groups.map((g) => (
        <Members
          key={g.name}
          title={`${g.name}: ${g.protection}`}
          aside={g.margin.words}
          members={g.members}
          lose={lose}
          take={take}
        />
      ))}
      {p.spares.length > 0 && <Members title="spares" members={p.spares} lose={lose} take={take} />}
      {p.logs.length > 0 && (
        <Members
          title="log devices"
          aside="losing one loses the members that depend on it"
          members={p.logs}
          lose={lose}
          take={take}
        />
      )}
      <section aria-labelledby="volumes" className="mt-6">
        <h2 id="volumes" className="mb-2">
          Volumes
        </h2>
        <div className="sheet overflow-x-auto">
          <table className="plain">
            <thead>
              <tr>
                <th>volume</th>
                <th>protection</th>
                <th>margin</th>
                <th>used</th>
              </tr>
            </thead>
            <tbody>
              {p.volumes.map((v) => (
                <tr key={v.name}>
                  <td className="font-semibold">{v.name}</td>
                  <td>{v.protection}</td>
                  <td>{v.margin.words}</td>
                  <td className="num">{decimal(v.used_bytes)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </section>
      <Work pool={p} />
      <section aria-labelledby="about" className="mt-6">
        <h2 id="about" className="mb-2">
          Name and past
        </h2>
        <div className="sheet space-y-3 p-4">
          {p.also && p.also.length > 0 && <p className="text-soft">Also called {p.also.join(", ")}</p>}
          {me?.role === "admin" && (
            <Rename
              what="Name"
              is={p.name}
              busy={rename.isPending}
              keep={(to) =>
                rename.mutate({
                  ask: () =>
                    got(
                      client.PUT("/pools/{pool}/name", {
                        params: { path: { pool: p.id }, ...once() },
                        body: { name: to },
                      }),
                    ),
                  says: `${p.name} is called ${to} from now on.`,
                  then: () => void go(`/pools/${encodeURIComponent(to)}`, { replace: true }),
                })
              }
            />
          )}
          <p className="flex flex-wrap gap-3">
            <Link className="button" to={`/story/pool/${encodeURIComponent(p.name)}`}>
              Report on {p.name}
            </Link>
          </p>
          <div className="text-sm text-soft">
            <span className="mb-1 block">To rehearse a replacement on a copy of it, without touching anything:</span>
            <Command line={`lantern rehearse ${p.name}`} />
          </div>
        </div>
      </section>
    </>
  );
}

function Members({
  title,
  aside,
  members,
  lose,
  take,
}: {
  title: string;
  aside?: string;
  members: S["Member"][];
  lose: string[];
  take?: (slot: string) => void;
}) {
  return (
    <section className="mb-5">
      <h2 className="mb-2">
        {title} {aside && <span className="text-base font-normal text-soft">{aside}</span>}
      </h2>
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(7.300rem,1fr))] gap-1.5">
        {members.map((m) => {
          const off = m.state !== "online" && m.state !== "standby";
          const gone = lose.includes(m.slot);
          if (take) {
            return (
              <li key={m.slot}>
                <button
                  aria-pressed={gone}
                  onClick={() => take(m.slot)}
                  className={[
                    "sheet block w-full p-2 text-left",
                    gone ? "barred border-dashed border-edge" : off ? "border-dashed border-replace" : "",
                  ].join(" ")}
                >
                  <span className="flex justify-between text-xs text-soft">
                    <span>{m.slot}</span>
                    <span>{gone ? "taken away" : m.state}</span>
                  </span>
                  <span className={`tail block ${gone ? "line-through" : ""}`}>{m.tail || m.slot}</span>
                  <span className="block truncate text-xs text-soft">{m.bay ?? "no bay"}</span>
                </button>
              </li>
            );
          }
          return (
            <li key={m.slot} className={`sheet p-2 ${off ? "border-dashed border-replace" : ""}`}>
              <p className="flex justify-between text-xs text-soft">
                <span>{m.slot}</span>
                <span>{m.state}</span>
              </p>
              {m.drive ? (
                <Link to={`/drives/${m.drive}`} className="flex items-center gap-1.5">
                  <Shape verdict={m.verdict} size={15} />
                  <span className="tail">{m.tail}</span>
                  <span className="sr-only">{m.verdict}</span>
                </Link>
              ) : m.under ? (
                <Link to={`/pools/${encodeURIComponent(m.under)}`} className="underline underline-offset-2">
                  a pool of its own
                </Link>
              ) : (
                <span>never known</span>
              )}
              {m.device && (m.partition || m.layers?.length) ? (
                <p className="truncate text-xs text-soft">
                  {m.device}
                  {m.layers?.length ? `: ${m.layers.join(", ")}` : ""}
                </p>
              ) : null}
              <p className="truncate text-xs text-soft">{m.bay ?? "no bay"}</p>
              {(m.bad_blocks ?? 0) > 0 && (
                <p className="text-xs">
                  {m.bad_blocks} bad {m.bad_blocks === 1 ? "block" : "blocks"} recorded
                </p>
              )}
              {m.errors.read + m.errors.write + m.errors.checksum > 0 && (
                <p className="text-xs">
                  errors: {m.errors.read} read, {m.errors.write} write, {m.errors.checksum} checksum
                </p>
              )}
            </li>
          );
        })}
      </ul>
    </section>
  );
}
