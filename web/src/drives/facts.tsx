import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useNow } from "../api/live";
import { exact, number } from "../parts/format";
import { Chart, token } from "../parts/chart";
import { useTheme } from "../parts/frame";
import { useTell } from "../parts/toast";

/** UsedBy is everything that depends on a drive. What was not read is not unused. */
export function UsedBy({ drive: d }: { drive: S["Drive"] }) {
  if (!d.uses?.length)
    return (
      <>
        {d.pool
          ? d.pool
          : d.looked
            ? "nothing: both ends are blank, and its host shows no use"
            : "unknown: it was not read"}
      </>
    );
  return (
    <ul className="space-y-1">
      {d.uses.map((u, i) => (
        <li key={i}>
          {u.says ?? u.kind}
          <span className="block text-sm text-soft">
            {u.pool_name ? (
              <>
                pool{" "}
                <Link to={`/pools/${encodeURIComponent(u.pool_name)}`} className="underline underline-offset-2">
                  {u.pool_name}
                </Link>
              </>
            ) : u.active ? (
              <b className="text-ink">in use, and no pool accounts for it</b>
            ) : (
              "is there, and no pool accounts for it"
            )}
          </span>
        </li>
      ))}
    </ul>
  );
}

/** Tests starts self-tests, and shows what the drive's own log says of those that ended. */
export function Tests({ drive: d }: { drive: S["Drive"] }) {
  const tell = useTell();
  const queries = useQueryClient();
  const after = {
    onSuccess: (all: S["TestRun"][]) => {
      if (!all[0]) tell("Nothing that was started from here runs on it.", true);
      else
        tell(
          all[0].state === "refused" ? `${d.tail} is not tested now: ${all[0].says}.` : `${d.tail}: ${all[0].says}.`,
          all[0].state === "refused",
        );
      void queries.invalidateQueries({ queryKey: ["drive"] });
    },
    onError: (e: Error) => tell(e.message, true),
  };
  const start = useMutation({
    mutationFn: (kind: "short" | "extended") =>
      got(client.POST("/selftests", { params: once(), body: { drive: d.key, kind } })),
    ...after,
  });
  const stop = useMutation({
    mutationFn: () => got(client.POST("/selftests/stop", { params: once(), body: { drive: d.key } })),
    ...after,
  });
  return (
    <section aria-labelledby="tests" className="sheet space-y-2.5 p-4">
      <h2 id="tests" className="text-base">
        Self-tests
      </h2>
      {d.testing ? (
        <>
          <p>
            It tests itself{d.testing.kind ? `, ${d.testing.kind}` : ""}:{" "}
            <b className="num">{d.testing.remaining_percent} %</b> are left.
          </p>
          <button className="button w-full" disabled={stop.isPending} onClick={() => stop.mutate()}>
            Stop the test
          </button>
        </>
      ) : (
        <div className="grid grid-cols-2 gap-2">
          <button className="button" disabled={start.isPending} onClick={() => start.mutate("short")}>
            Short test
          </button>
          <button className="button" disabled={start.isPending} onClick={() => start.mutate("extended")}>
            Extended
          </button>
        </div>
      )}
      {d.self_tests?.plan && (
        <p className="text-sm">
          Plan{" "}
          <Link className="underline" to={`/tests?plan=${d.self_tests.plan}`}>
            {d.self_tests.plan}
          </Link>
          : {d.self_tests.plan_why}
          {d.self_tests.plan_else && `; otherwise ${d.self_tests.plan_else} would hold`}.
          {d.self_tests.next
            ?.filter((t) => t.at)
            .slice(0, 2)
            .map((t, i) => (
              <span key={i} className="block text-soft">
                {t.state === "held" ? (
                  <>
                    {t.kind}, held back: {t.why}
                  </>
                ) : (
                  <>
                    {t.kind} {t.state === "running" ? "since" : "at"}{" "}
                    <span className="num">{exact(new Date(t.at!)).slice(0, 16)}</span>
                  </>
                )}
              </span>
            ))}
        </p>
      )}
      {d.tests?.length ? (
        <ul>
          {d.tests.slice(0, 4).map((t, i) => (
            <li key={i}>
              {t.kind}: <b className={t.result === "failed" ? "text-replace" : ""}>{t.result}</b>
              {t.lba >= 0 && <span className="num text-sm"> at LBA {t.lba}</span>}
              {t.lba >= 0 && d.failed_at?.lba === t.lba && d.failed_at.says && (
                <span className="block text-sm">The bad sector holds {d.failed_at.says}.</span>
              )}{" "}
              <span className="num text-sm text-soft">
                {t.at && `${t.about ? "about " : ""}${exact(new Date(t.at))}, `}at {t.hours.toLocaleString("en-GB")} h
              </span>
            </li>
          ))}
        </ul>
      ) : (
        <p className="text-soft">None on record.</p>
      )}
    </section>
  );
}

/** from is where the shared axis begins; it is kept to the minute, so that charts are not drawn anew each second. */
export const from = (now: Date, days: number): number => Math.floor(now.getTime() / 60_000) * 60 - days * 86400;

export function Trend({
  drive: d,
  metric,
  days,
  loud,
}: {
  drive: S["Drive"];
  metric: string;
  days: number;
  loud: string;
}) {
  useTheme();
  const now = useNow();
  const trend = useQuery({
    queryKey: ["drive", d.key, "trend", metric, days],
    queryFn: () =>
      got(
        client.GET("/drives/{drive}/trend", {
          params: { path: { drive: d.key }, query: { metric, hours: 24 * days } },
        }),
      ),
    placeholderData: (was) => was,
  });
  const t = trend.data;
  if (trend.error) return <p className="p-4">{trend.error.message}</p>;
  if (!t || t.points.length < 2)
    return <div className="h-40 p-4 text-soft">{t ? `${metric}: too few readings to draw` : ""}</div>;
  const peers = t.peers ?? [];
  const at = [...new Set([t.points, ...peers.map((p) => p.points)].flat().map((p) => Date.parse(p.at) / 1000))].sort(
    (a, b) => a - b,
  );
  const onto = (points: S["Point"][]) => {
    const m = new Map(points.map((p) => [Date.parse(p.at) / 1000, p.value]));
    return at.map((x) => m.get(x) ?? null);
  };
  const last = t.points.at(-1);
  const begins = from(now, days);
  const color = token(loud === "sound" || loud === "unknown" ? "ink" : loud);
  const show = (v: number) =>
    t.unit === "s"
      ? `${number(v * 1000)} ms`
      : t.unit === "sectors" || t.unit === "errors"
        ? number(v)
        : `${number(v)} ${t.unit}`;
  if (!last) return null;
  return (
    <div className="p-4">
      <p className="flex flex-wrap items-baseline justify-between gap-x-4">
        <span className="font-semibold">{metric.replaceAll("_", " ")}</span>
        <span className="num">
          <b>{show(last.value)}</b>{" "}
          <span className="text-sm text-soft">
            {t.unit} · {t.source} · {exact(new Date(last.at))}
          </span>
        </span>
      </p>
      <p className="mb-2 text-sm text-soft">
        {t.means} {t.means_not}
        {peers.length ? " Faint lines: the other members of its group." : ""}
      </p>
      <Chart
        x={at}
        height={160}
        label={`${metric} of ${t.tail} over ${days} days, now ${last.value} ${t.unit}`}
        unit={show}
        from0={t.unit !== "°C"}
        span={[begins, begins + days * 86400 + 60]}
        events={(d.happened ?? []).map((h) => ({ at: Date.parse(h.at) / 1000, letter: letters[h.kind].letter }))}
        lines={[
          ...peers.map((p) => ({ label: p.tail, color: token("line"), width: 1, values: onto(p.points) })),
          {
            label: t.tail,
            color,
            width: 3,
            values: onto(t.points),
            stepped: t.unit === "sectors" || t.unit === "errors",
          },
        ]}
      />
    </div>
  );
}

export const letters: Record<S["Happening"]["kind"], { letter: string; word: string }> = {
  test: { letter: "T", word: "self-test" },
  place: { letter: "P", word: "came or went" },
  reset: { letter: "R", word: "a counter began anew" },
  swap: { letter: "S", word: "swap" },
  finding: { letter: "F", word: "finding" },
};

/** Happened says in words what the marks across the charts are. */
export function Happened({ drive: d, days }: { drive: S["Drive"]; days: number }) {
  const now = useNow();
  const all = (d.happened ?? []).filter((h) => Date.parse(h.at) / 1000 >= from(now, days));
  if (all.length === 0)
    return (
      <p className="mt-2 text-sm text-soft">
        Nothing happened to it in {days} days: no self-test, no move, no counter that began anew, no swap, no finding.
      </p>
    );
  return (
    <details className="mt-2">
      <summary className="min-h-8 cursor-pointer text-sm text-soft">
        Marks: {[...new Set(all.map((h) => h.kind))].map((k) => `${letters[k].letter} ${letters[k].word}`).join(", ")}
      </summary>
      <ul className="mt-1 space-y-1 text-sm">
        {all.map((h, i) => (
          <li key={i}>
            <span aria-hidden className="inline-block w-5 text-soft">
              {letters[h.kind].letter}
            </span>
            <span className="num text-soft">
              {h.about ? "about " : ""}
              {exact(new Date(h.at))}
            </span>{" "}
            {h.says}
          </li>
        ))}
      </ul>
    </details>
  );
}

/** grown is how much a counter grew over a span, with a sign when it is known for less than that. */
export function grown(g?: S["Growth"]): string {
  if (!g) return "";
  return `${g.whole ? "" : "~"}${g.grown > 0 ? `+${number(g.grown)}` : "0"}`;
}

export function Metrics({ drive: d }: { drive: S["Drive"] }) {
  if (!d.metrics?.length) return <p className="mt-3 text-soft">It says nothing else.</p>;
  return (
    <div className="mt-3 space-y-6">
      <div tabIndex={0} role="region" aria-label="Metrics" className="overflow-x-auto">
        <table className="plain">
          <thead>
            <tr>
              <th>metric</th>
              <th>value</th>
              <th>1 h</th>
              <th>24 h</th>
              <th>7 d</th>
              <th>90 d</th>
              <th>life</th>
              <th>what it means</th>
            </tr>
          </thead>
          <tbody>
            {d.metrics.map((m) => (
              <tr key={m.name}>
                <td>{m.name}</td>
                <td className="num whitespace-nowrap">
                  {number(m.value)} {m.unit}
                </td>
                {[0, 1, 2, 3].map((i) => (
                  <td key={i} className="num">
                    {grown(m.growth?.[i])}
                  </td>
                ))}
                <td className="num">{m.resets ? number(m.total ?? 0) : ""}</td>
                <td className="min-w-64 text-sm">
                  {m.means}{" "}
                  <span className="text-soft">
                    {m.means_not} ({m.source})
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <p className="mt-1 text-sm text-soft">
          1 h to 90 d: how much a counter grew; ~ when it is known for a shorter time. Life: the total over all resets,
          where there were any.
        </p>
      </div>
      {d.attributes && d.attributes.length > 0 && (
        <div tabIndex={0} role="region" aria-label="Raw attributes" className="overflow-x-auto">
          <h3 className="mb-1 font-semibold">SMART attributes, as the drive gave them</h3>
          <table className="plain num">
            <thead>
              <tr>
                <th>id</th>
                <th>value</th>
                <th>worst</th>
                <th>threshold</th>
                <th>raw</th>
                <th>feeds</th>
              </tr>
            </thead>
            <tbody>
              {d.attributes.map((a) => (
                <tr key={a.id}>
                  <td>{a.id}</td>
                  <td>{a.value}</td>
                  <td>{a.worst}</td>
                  <td>{a.threshold}</td>
                  <td>{a.raw}</td>
                  <td>{a.metric || <span className="text-soft">nothing known here</span>}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </div>
  );
}

export function hex(base64: string): string {
  const bytes = Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
  const lines: string[] = [];
  for (let i = 0; i < bytes.length; i += 16)
    lines.push(
      `${i.toString(16).padStart(4, "0")}  ${[...bytes.slice(i, i + 16)].map((b) => b.toString(16).padStart(2, "0")).join(" ")}`,
    );
  return lines.join("\n");
}
