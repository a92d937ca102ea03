import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useNow } from "../api/live";
import { Place } from "../bays/drawing";
import { LightOthers } from "../bays/lights";
import { age, binary, clock, decimal, exact } from "../parts/format";
import { Ago, Failed, Mark, Shape, Waiting, Lasting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { Known } from "../inventory/item";
import { root } from "../api/root";
import { Keeping } from "./keeping";
import { Course, useCourse } from "./course";
import { hex, Metrics, Tests, UsedBy } from "./facts";

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
  // The metrics of findings first, then those with strong evidence that are not zero; at most four.
  const told = d.findings.map((f) => f.metric).filter((m): m is string => !!m);
  const strong = (d.metrics ?? [])
    .filter((m) => (m.strength === "strong" || m.strength === "path") && m.value !== 0)
    .map((m) => m.name);
  const usual = ["read_latency_seconds", "temperature_celsius"].filter((n) => d.metrics?.some((m) => m.name === n));
  const bands = [...new Set([...told, ...strong, ...usual])].slice(0, 4);
  const { days, metrics, setMetrics } = useCourse();
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
            {d.before?.map((i) => (
              <p key={i.serial} className="mt-1 text-soft">
                Known before as serial <span className="font-mono">{i.serial}</span>
              </p>
            ))}
            {d.blind && <p className="mt-1">Its newest reading has no values: {d.blind}.</p>}
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
        <Course drive={d} usual={bands} loud={told} />
        <details className="sheet p-4">
          <summary className="min-h-8 cursor-pointer font-semibold">All other data</summary>
          <Metrics drive={d} drawn={metrics} draw={setMetrics} />
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
          <p className="mt-3 flex flex-wrap gap-3">
            <Link className="button" to={`/story/drive/${encodeURIComponent(d.key)}`}>
              Report on {d.tail}
            </Link>
            <a
              className="button"
              href={`${root}/api/v1/drives/${encodeURIComponent(d.key)}/readings?hours=${24 * days}`}
              download={`${d.identity.serial}.jsonl`}
            >
              Readings of {days} days, as JSON lines
            </a>
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
      tell(`Light of ${l.bay} ordered until ${clock(new Date(l.until))}. It goes out by itself.`);
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
            {!d.present && <LightOthers drive={d.key} tail={d.tail} />}
            <Link className="button w-full" to={`/bays/${d.host}?bay=${d.bay}`}>
              Show on the map
            </Link>
          </>
        ) : (
          <p>Its bay on {d.host} is not known. Find it by its label.</p>
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
      <Keeping drive={d} />
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
