import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import { client, got, once, type S } from "../api/client";
import { clock, decimal } from "../parts/format";
import { Ago, Failed, Title, Waiting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { Standing } from "./standing";

export default function RecoveryPage() {
  const { id = "" } = useParams();
  const q = useQuery({
    queryKey: ["recoveries", id],
    queryFn: () => got(client.GET("/recoveries/{id}", { params: { path: { id } } })),
  });
  const [params, setParams] = useSearchParams();
  const under = params.get("under") ?? "";
  const earlier = useQuery({
    queryKey: ["recoveries", under],
    enabled: !!under,
    queryFn: () => got(client.GET("/recoveries/{id}", { params: { path: { id: under } } })),
  });
  if (q.error) return <Failed what="The recovery" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting />;
  const r = q.data;
  return (
    <>
      <Title
        aside={
          <>
            {r.state} · began <Ago at={r.started_at} /> · seen <Ago at={r.seen_at} />
          </>
        }
      >
        <span className="capitalize">{r.kind}</span>{" "}
        {r.drive && r.tail && (
          <>
            of{" "}
            <Link to={`/drives/${r.drive}`} className="tail">
              {r.tail}
            </Link>
          </>
        )}{" "}
        in <Link to={`/pools/${encodeURIComponent(r.pool)}`}>{r.pool}</Link>
      </Title>
      <div className="sheet p-5">
        <Standing recovery={r} under={under ? earlier.data : undefined} height={340} />
        {(r.earlier?.length ?? 0) > 0 && (
          <label className="mt-3 flex flex-wrap items-center gap-2 text-soft">
            Compare with an earlier one
            <select
              className="field w-auto"
              value={under}
              onChange={(e) => setParams(e.target.value ? { under: e.target.value } : {}, { replace: true })}
            >
              <option value="">none</option>
              {r.earlier!.map((e) => (
                <option key={e} value={e}>
                  {e}
                </option>
              ))}
            </select>
            {under && earlier.data && <span className="num">{earlier.data.summary}</span>}
          </label>
        )}
      </div>
      {(r.priorities?.length ?? 0) > 0 && <Priorities recovery={r} />}
      <div className="mt-5 grid items-start gap-5 lg:grid-cols-2">
        {r.risk && <Risk risk={r.risk} cost={r.cost} />}
        {(r.flows?.length ?? 0) > 0 && <Flows flows={r.flows!} slowest={r.slowest} />}
      </div>
    </>
  );
}

/** Priorities shows the effect of each priority while it was set, with buttons to change it. */
function Priorities({ recovery: r }: { recovery: S["Recovery"] }) {
  const tell = useTell();
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: (priority: "low" | "normal" | "high") =>
      got(
        client.POST("/pools/{pool}/actions", {
          params: { path: { pool: r.pool }, ...once() },
          body: { action: "priority", priority },
        }),
      ),
    onSuccess: (o) => {
      tell(`Priority ${o.priority} was ordered on ${o.host}.`);
      void queries.invalidateQueries({ queryKey: ["recoveries"] });
    },
    onError: (e) => tell(e.message, true),
  });
  const last = r.priorities![r.priorities!.length - 1]!;
  return (
    <section aria-labelledby="priority" className="sheet mt-5 p-5">
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <h2 id="priority">Priority: {last.priority}</h2>
        {r.state === "running" && (
          <span className="flex gap-2">
            {(["low", "normal", "high"] as const).map((p) => (
              <button
                key={p}
                className={`button small ${p === last.priority ? "bg-raised" : ""}`}
                aria-pressed={p === last.priority}
                disabled={set.isPending}
                onClick={() => set.mutate(p)}
              >
                {p}
              </button>
            ))}
          </span>
        )}
      </div>
      <div className="overflow-x-auto">
        <table className="plain mt-2">
          <thead>
            <tr>
              <th>priority</th>
              <th>from</th>
              <th>until</th>
              <th>pace</th>
              <th>users waited for a read</th>
            </tr>
          </thead>
          <tbody>
            {r.priorities!.map((e) => (
              <tr key={e.from}>
                <td className="font-semibold">{e.priority}</td>
                <td className="num">{clock(new Date(e.from))}</td>
                <td className="num">{clock(new Date(e.to))}</td>
                <td className="num">{e.rate ? `${decimal(e.rate)}/s` : "not seen yet"}</td>
                <td className="num">
                  {e.readings
                    ? `${(1000 * (e.latency_seconds ?? 0)).toPrecision(2)} ms, median of ${e.readings} readings`
                    : "not read yet"}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

/** Risk shows the cost of a second failure until the end: ranges, and their basis. */
function Risk({ risk, cost }: { risk: S["Risk"]; cost?: string }) {
  return (
    <section aria-labelledby="risk" className="sheet space-y-2 p-5">
      <h2 id="risk">If something fails meanwhile</h2>
      <p className="text-lg">{cost && cost.charAt(0).toUpperCase() + cost.slice(1)}.</p>
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
        <dt className="text-soft">chance that data is lost before the end</dt>
        <dd className="num font-semibold">{risk.another}</dd>
        {risk.unreadable && (
          <>
            <dt className="text-soft">to meet an unreadable sector</dt>
            <dd className="num font-semibold">{risk.unreadable}</dd>
          </>
        )}
        {(risk.volumes?.length ?? 0) > 0 && (
          <>
            <dt className="text-soft">data that would be lost</dt>
            <dd className="font-semibold">{risk.volumes!.join(", ")}</dd>
          </>
        )}
        {(risk.members?.length ?? 0) > 0 && (
          <>
            <dt className="text-soft">with any of</dt>
            <dd className="flex flex-wrap gap-x-2">
              {risk.members!.map((m) =>
                m.drive ? (
                  <Link key={m.slot} className="tail" to={`/drives/${m.drive}`}>
                    {m.tail || m.slot}
                  </Link>
                ) : (
                  <span key={m.slot}>{m.slot}</span>
                ),
              )}
            </dd>
          </>
        )}
      </dl>
      <details className="text-sm text-soft">
        <summary className="cursor-pointer">What this assumes</summary>
        <ul className="mt-2 list-disc space-y-1 pl-5">
          {risk.assumes.map((a) => (
            <li key={a}>{a}</li>
          ))}
        </ul>
      </details>
    </section>
  );
}

/** Flows shows the bytes that each member read and wrote. */
function Flows({ flows, slowest }: { flows: S["Flow"][]; slowest?: string }) {
  const most = Math.max(1, ...flows.map((f) => f.read_bytes + f.written_bytes));
  return (
    <section aria-labelledby="flows" className="sheet p-5">
      <h2 id="flows" className="mb-2">
        Members
      </h2>
      {slowest && <p className="mb-3">Slowest: {slowest}.</p>}
      <table className="plain">
        <thead>
          <tr>
            <th>member</th>
            <th>read</th>
            <th>written</th>
            <th aria-hidden className="w-1/3" />
          </tr>
        </thead>
        <tbody>
          {flows.map((f) => (
            <tr key={f.slot}>
              <td>
                <span className="tail">{f.tail}</span>{" "}
                {f.tail !== f.slot && <span className="text-xs text-soft">{f.slot}</span>}
              </td>
              <td className="num">{decimal(f.read_bytes)}</td>
              <td className="num">{decimal(f.written_bytes)}</td>
              <td aria-hidden>
                <span className="flex h-3">
                  <span className="bg-level" style={{ width: `${(100 * f.read_bytes) / most}%` }} />
                  <span className="barred border border-edge" style={{ width: `${(100 * f.written_bytes) / most}%` }} />
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
