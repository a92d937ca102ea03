import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useNow } from "../api/live";
import { Place } from "../bays/drawing";
import { age, binary, clock, decimal, exact, number } from "../parts/format";
import { Chart, token } from "../parts/chart";
import { useTheme } from "../parts/frame";
import { Ago, Failed, Mark, Shape, Waiting, Lasting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { Known } from "../inventory/item";
import { root } from "../api/root";

export default function DrivePage() {
  const { drive: name = "" } = useParams();
  const drive = useQuery({
    queryKey: ["drive", name],
    queryFn: () => got(client.GET("/drives/{drive}", { params: { path: { drive: name } } })),
  });
  if (drive.error) return <Failed what="The drive" error={drive.error} again={() => void drive.refetch()} />;
  if (!drive.data) return <Waiting rows={5} />;
  return <Sheet drive={drive.data} />;
}

function Sheet({ drive: d }: { drive: S["Drive"] }) {
  // The metrics of findings first, then those of strong evidence that are not zero: what matters, at most four.
  const told = d.findings.map((f) => f.metric).filter((m): m is string => !!m);
  const strong = (d.metrics ?? [])
    .filter((m) => (m.strength === "strong" || m.strength === "path") && m.value !== 0)
    .map((m) => m.name);
  const usual = ["read_latency_seconds", "temperature_celsius"].filter((n) => d.metrics?.some((m) => m.name === n));
  const bands = [...new Set([...told, ...strong, ...usual])].slice(0, 4);
  const [days, setDays] = useState(30);
  return (
    <div className="grid gap-6 lg:grid-cols-[1fr_18rem]">
      <div className="min-w-0 space-y-6">
        <header className="flex flex-col gap-5 sm:flex-row sm:items-center">
          <Label drive={d} />
          <div>
            <Mark verdict={d.verdict} size={26} />
            <h1 className="mt-1" data-title={d.tail}>
              {d.tail} {d.says}.
            </h1>
            {d.blind && <p className="mt-1">Its newest reading told nothing: {d.blind}.</p>}
            <p className="mt-1 text-soft">
              {d.present ? (
                <>
                  Read <Ago at={d.read_at} />
                </>
              ) : (
                <>
                  Last answered <Ago at={d.seen_at} />
                </>
              )}
            </p>
          </div>
        </header>
        {d.findings.length > 0 && (
          <section aria-label="Findings" className="sheet divide-y divide-line">
            {d.findings.map((f) => (
              <div key={f.rule} className="p-4">
                <p className="flex items-start gap-2 font-semibold">
                  <span className="mt-0.5">
                    <Shape verdict={f.verdict} />
                  </span>
                  <span>
                    {f.says}
                    <span className="font-normal text-soft">
                      , <Lasting since={f.since} />
                    </span>
                  </span>
                </p>
                <ul className="mt-1 pl-7 text-sm text-soft">
                  {f.evidence.map((e, i) => (
                    <li key={i}>
                      <span className="num text-ink">{e.says}</span> · {e.source} ·{" "}
                      <span className="num">{exact(new Date(e.at))}</span>
                    </li>
                  ))}
                </ul>
                <p className="mt-1.5 pl-7">→ {f.do}</p>
              </div>
            ))}
          </section>
        )}
        {d.unreadable?.map((u, i) => (
          <section key={i} className="sheet border-watch p-4">
            <p className="font-semibold">A page of this drive is unreadable: {u.why}</p>
            <details className="mt-2 text-sm">
              <summary>{u.kind}, the bytes as they came</summary>
              <pre tabIndex={0} className="mt-2 overflow-x-auto font-mono">
                {hex(u.bytes)}
              </pre>
            </details>
          </section>
        ))}
        {bands.length > 0 && (
          <section aria-labelledby="course">
            <div className="mb-2 flex items-center justify-between">
              <h2 id="course">Its course</h2>
              <span className="flex gap-1">
                {[7, 30, 90].map((n) => (
                  <button
                    key={n}
                    aria-pressed={days === n}
                    onClick={() => setDays(n)}
                    className={
                      "num min-h-9 rounded-md px-2.5 text-sm text-soft " +
                      "aria-pressed:bg-raised aria-pressed:font-semibold aria-pressed:text-ink"
                    }
                  >
                    {n} days
                  </button>
                ))}
              </span>
            </div>
            <div className="sheet divide-y divide-line">
              {bands.map((m) => (
                <Trend key={m} drive={d} metric={m} days={days} loud={told.includes(m) ? d.verdict : "sound"} />
              ))}
            </div>
            <Happened drive={d} days={days} />
          </section>
        )}
        <details className="sheet p-4">
          <summary className="min-h-8 cursor-pointer font-semibold">Everything else it says</summary>
          <Metrics drive={d} />
        </details>
        <details className="sheet p-4" open={!!d.inventory}>
          <summary className="min-h-8 cursor-pointer font-semibold">Purchase, warranty and notes</summary>
          <Known
            item={
              d.inventory ?? {
                serial: d.identity.serial ?? "",
                tail: d.tail,
                fields: {},
                notes: [],
                seen: "now" as const,
              }
            }
          />
          <p className="mt-3">
            <a className="button" href={`${root}/api/v1/drives/${encodeURIComponent(d.key)}/evidence`} download>
              Evidence for a return, as a ZIP file
            </a>
          </p>
        </details>
      </div>
      <Aside drive={d} />
    </div>
  );
}

/** Label is drawn as on the metal: the tail in the largest type, since hands and eyes use it. */
function Label({ drive: d }: { drive: S["Drive"] }) {
  return (
    <div
      aria-label={`Label: ${d.identity.model}, serial ${d.identity.serial}`}
      role="group"
      className="w-full shrink-0 rounded-lg border-2 border-edge bg-sheet p-4 sm:w-72"
    >
      <p className="flex justify-between text-sm">
        <span>{d.identity.model}</span>
        <span className="num">{decimal(d.capacity_bytes)}</span>
      </p>
      <p className="tail my-1.5 text-5xl leading-none">{d.tail}</p>
      <p className="text-sm text-soft">
        S/N{" "}
        <span className="font-mono">
          {d.identity.serial.slice(0, -d.tail.length)}
          <b className="text-ink">{d.tail}</b>
        </span>
      </p>
      {d.identity.wwn && (
        <p className="text-sm text-soft">
          WWN <span className="font-mono">{d.identity.wwn}</span>
        </p>
      )}
    </div>
  );
}

function Aside({ drive: d }: { drive: S["Drive"] }) {
  const go = useNavigate();
  const tell = useTell();
  const now = useNow();
  const queries = useQueryClient();
  const light = useMutation({
    mutationFn: () => got(client.POST("/lights", { params: once(), body: { drive: d.key, seconds: 600 } })),
    onSuccess: (l) => {
      tell(`Bay ${l.bay} was asked to be lit until ${clock(new Date(l.until))}. It goes out by itself.`);
      void queries.invalidateQueries({ queryKey: ["drive"] });
    },
    onError: (e) => tell(e.message, true),
  });
  const plan = useMutation({
    mutationFn: () => got(client.POST("/swaps", { params: once(), body: { drive: d.key } })),
    onSuccess: (w) => void go(`/swaps/${w.id}`),
    onError: (e) => tell(e.message, true),
  });
  const lit = d.lit_until && Date.parse(d.lit_until) > now.getTime();
  const facts: [string, React.ReactNode][] = [
    [
      "Pool",
      d.places?.length
        ? d.places.map((p) => (
            <span key={`${p.pool_id} ${p.slot}`} className="block">
              <Link to={`/pools/${encodeURIComponent(p.pool)}`} className="font-semibold">
                {p.pool}
              </Link>
              <br />
              <span className="text-soft">
                {p.group || p.role}, slot {p.slot}
                {p.partition ? `, partition ${p.partition}` : ""}, {p.state}
              </span>
            </span>
          ))
        : "none known",
    ],
    ["Used by", <UsedBy drive={d} />],
    ...(d.claims?.length
      ? [
          [
            "Also reported by",
            <ul>
              {d.claims.map((c) => (
                <li key={c.host}>
                  {c.host} <span className="text-soft">{c.bay || c.path}</span>:{" "}
                  <b className={c.differs ? "text-replace" : ""}>
                    {c.differs ? `differs in ${c.differs}` : "no difference seen"}
                  </b>
                </li>
              ))}
            </ul>,
          ] as [string, React.ReactNode],
        ]
      : []),
    ...(d.paths?.length
      ? [
          [
            "Paths",
            <ul>
              {d.paths.map((p) => (
                <li key={p.path + p.port}>
                  {p.path} <span className="text-soft">{p.port}</span>:{" "}
                  <b className={p.state === "working" ? "" : "text-replace"}>{p.state}</b>
                </li>
              ))}
            </ul>,
          ] as [string, React.ReactNode],
        ]
      : []),
    ...(d.margin?.words
      ? [
          [
            "Margin",
            <>
              {d.margin.words}
              {d.margin_after?.words && (
                <>
                  <br />
                  <span className="text-soft">without it: {d.margin_after.words}</span>
                </>
              )}
            </>,
          ] as [string, React.ReactNode],
        ]
      : []),
    [
      "Size",
      <>
        {decimal(d.capacity_bytes)} ({binary(d.capacity_bytes)})<br />
        <span className="num text-sm text-soft">{d.capacity_bytes.toLocaleString("en-GB")} bytes</span>
      </>,
    ],
    [
      "Powered for",
      d.power_on_hours ? (
        <>
          {age(d.power_on_hours)}{" "}
          <span className="num text-sm text-soft">({d.power_on_hours.toLocaleString("en-GB")} h)</span>
        </>
      ) : (
        "not told"
      ),
    ],
    ["Temperature", d.temperature_celsius ? `${d.temperature_celsius} °C` : "not told"],
    ["Kind", [d.medium, d.rotation_rpm ? `${d.rotation_rpm} rpm` : "", d.form_factor].filter(Boolean).join(", ")],
    ["Contents", d.holds?.length ? d.holds.join(", ") : d.looked ? "both ends are blank" : "unknown: it was not read"],
    ...(d.siblings?.length
      ? [
          [
            "Siblings",
            <ul>
              {d.siblings.map((k) => (
                <li key={k}>
                  <Link to={`/drives/${k}`} className="underline underline-offset-2">
                    same batch, …{k.slice(-5)}
                  </Link>
                </li>
              ))}
            </ul>,
          ] as [string, React.ReactNode],
        ]
      : []),
    ["First seen", <Ago at={d.first_seen_at} />],
    ...(d.path
      ? [
          [
            "On its host",
            <>
              {d.path}
              {d.names?.map((n) => (
                <span key={n} className="block font-mono text-sm break-all text-soft">
                  {n}
                </span>
              ))}
            </>,
          ] as [string, React.ReactNode],
        ]
      : []),
  ];
  return (
    <aside aria-label="Place and facts" className="space-y-4">
      <div className="sheet space-y-3 p-4">
        {d.bay ? (
          <>
            <Place bay={d.bay} tone={d.verdict === "dead" ? "text-dead" : "text-replace"} width={200} />
            <p className="text-lg font-semibold">
              {d.bay}
              {!d.present && <span className="block text-sm font-normal text-soft">when it was last seen</span>}
            </p>
            {lit ? (
              <p className="flex items-center gap-2">
                <span className="lit size-3 rounded-full bg-lamp ring-2 ring-lamp" />
                lit until {clock(new Date(d.lit_until!))}
              </p>
            ) : (
              <button className="button w-full" disabled={light.isPending} onClick={() => light.mutate()}>
                Light the bay for 10 min
              </button>
            )}
            <Link className="button w-full" to={`/bays/${d.host}?bay=${d.bay}`}>
              Show on the map
            </Link>
          </>
        ) : (
          <p>Nobody knows in which bay of {d.host} it is. Find it by its label.</p>
        )}
        {d.swap ? (
          <Link className="button main w-full" to={`/swaps/${d.swap}`}>
            Open the swap
          </Link>
        ) : (
          (d.role === "member" || d.role === "log") && (
            <button
              className={`button w-full ${d.verdict === "replace" || d.verdict === "dead" ? "main" : ""}`}
              disabled={plan.isPending}
              onClick={() => plan.mutate()}
            >
              Plan a swap
            </button>
          )
        )}
      </div>
      {d.present && <Tests drive={d} />}
      <dl className="sheet divide-y divide-line">
        {facts.map(([k, v]) => (
          <div key={k} className="px-4 py-2.5">
            <dt className="text-sm text-soft">{k}</dt>
            <dd>{v}</dd>
          </div>
        ))}
      </dl>
    </aside>
  );
}

/** UsedBy is everything that depends on a drive. What was not read is not unused. */
function UsedBy({ drive: d }: { drive: S["Drive"] }) {
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
function Tests({ drive: d }: { drive: S["Drive"] }) {
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
const from = (now: Date, days: number): number => Math.floor(now.getTime() / 60_000) * 60 - days * 86400;

function Trend({ drive: d, metric, days, loud }: { drive: S["Drive"]; metric: string; days: number; loud: string }) {
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

const letters: Record<S["Happening"]["kind"], { letter: string; word: string }> = {
  test: { letter: "T", word: "self-test" },
  place: { letter: "P", word: "came or went" },
  reset: { letter: "R", word: "a counter began anew" },
  swap: { letter: "S", word: "swap" },
  finding: { letter: "F", word: "finding" },
};

/** Happened says in words what the marks across the charts are. */
function Happened({ drive: d, days }: { drive: S["Drive"]; days: number }) {
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
function grown(g?: S["Growth"]): string {
  if (!g) return "";
  return `${g.whole ? "" : "~"}${g.grown > 0 ? `+${number(g.grown)}` : "0"}`;
}

function Metrics({ drive: d }: { drive: S["Drive"] }) {
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

function hex(base64: string): string {
  const bytes = Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
  const lines: string[] = [];
  for (let i = 0; i < bytes.length; i += 16)
    lines.push(
      `${i.toString(16).padStart(4, "0")}  ${[...bytes.slice(i, i + 16)].map((b) => b.toString(16).padStart(2, "0")).join(" ")}`,
    );
  return lines.join("\n");
}
