import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, got, once, type S } from "../api/client";
import { exact, number } from "../parts/format";
import { useTell } from "../parts/toast";
import { said, StartTest } from "../tests/now";

/** UsedBy lists everything that uses a drive. A drive that was not read is not shown as unused. */
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

/** Tests starts self-tests, and shows the drive's own log of those that ended. */
export function Tests({ drive: d }: { drive: S["Drive"] }) {
  const tell = useTell();
  const queries = useQueryClient();
  const after = {
    onSuccess: (all: S["TestRun"][]) => {
      const { says, bad } = said(all);
      tell(says, bad);
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
          <details className="col-span-2">
            <summary className="min-h-8 cursor-pointer text-sm text-soft">Other tests</summary>
            <StartTest drive={d} />
          </details>
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

/** grown is the growth of a counter over a period, with a mark if it is known for less. */
export function grown(g?: S["Growth"]): string {
  if (!g) return "";
  return `${g.whole ? "" : "~"}${g.grown > 0 ? `+${number(g.grown)}` : "0"}`;
}

/** Metrics are all values that a drive reports; those that are drawn are charts above. */
export function Metrics({
  drive: d,
  drawn,
  draw,
}: {
  drive: S["Drive"];
  drawn: string[];
  draw: (all: string[]) => void;
}) {
  if (!d.metrics?.length) return <p className="mt-3 text-soft">It reports nothing else.</p>;
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
                <td>
                  <button
                    className="text-left underline underline-offset-2"
                    aria-pressed={drawn.includes(m.name)}
                    title={drawn.includes(m.name) ? "Remove its chart" : "Draw its course"}
                    onClick={() =>
                      draw(drawn.includes(m.name) ? drawn.filter((x) => x !== m.name) : [...drawn, m.name])
                    }
                  >
                    {m.name}
                  </button>
                </td>
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
          Choose a metric to draw its course. 1 h to 90 d: how much a counter grew; ~ when it is known for a shorter
          time. Life: the total over all resets, where there were any.
        </p>
      </div>
      {d.attributes && d.attributes.length > 0 && (
        <div tabIndex={0} role="region" aria-label="Raw attributes" className="overflow-x-auto">
          <h3 className="mb-1 font-semibold">SMART attributes, as reported</h3>
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
  const digits = (n: number, count: number) => n.toString(16).padStart(count, "0");
  for (let i = 0; i < bytes.length; i += 16)
    lines.push(`${digits(i, 4)}  ${[...bytes.slice(i, i + 16)].map((b) => digits(b, 2)).join(" ")}`);
  return lines.join("\n");
}
