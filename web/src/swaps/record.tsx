import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { client, got } from "../api/client";
import { exact, span } from "../parts/format";
import { Failed, NotReal, Waiting } from "../parts/parts";
import { Checks } from "./step";
import { root } from "../api/root";

/** RecordPage is the record of a swap as a page to print: steps, people, checks, evidence, how long at which margin. */
export default function RecordPage() {
  const { id = "" } = useParams();
  const q = useQuery({
    queryKey: ["swaps", id, "report"],
    queryFn: () => got(client.GET("/swaps/{id}/report", { params: { path: { id } } })),
  });
  if (q.error) return <Failed what="The record" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting rows={6} />;
  const { swap: w, ...r } = q.data;
  const usual = Math.max(...r.margins.map((m) => (m.margin.known ? (m.margin.members ?? 0) : -1)), 0);
  const all = r.margins.reduce((sum, m) => sum + m.seconds, 0);
  return (
    <article className="card mx-auto max-w-3xl space-y-5">
      <div className="no-print flex flex-wrap gap-3">
        <button className="button main" onClick={() => window.print()}>
          Print or save as PDF
        </button>
        <a className="button" href={`${root}/api/v1/swaps/${id}/report`} download={`swap-${w.old.tail}.json`}>
          As JSON
        </a>
        <a className="button" href={`${root}/api/v1/swaps/${id}/evidence`} download>
          Evidence for a return
        </a>
        <Link className="button" to={`/swaps/${id}`}>
          Back to the swap
        </Link>
      </div>
      <header className="border-b-4 border-ink pb-3">
        <p className="text-soft">
          Record of a swap, written {exact(new Date(r.written_at))}
          <NotReal />
        </p>
        <h1 className="text-4xl!">
          <span className="tail">{w.old.tail}</span>
          {w.new?.tail && (
            <>
              {" "}
              → <span className="tail">{w.new.tail}</span>
            </>
          )}
        </h1>
        <p className="text-lg">
          {w.pool}, slot {w.slot}, on {w.host}:{" "}
          <b>
            {w.phase === "closed"
              ? "closed, verified"
              : w.open
                ? `at “${w.steps.find((s) => s.state === "now")?.title}”`
                : "abandoned"}
          </b>
        </p>
        <p className="text-soft">
          {w.recipe}
          {w.why && `: ${w.why.join("; ")}`}
        </p>
      </header>
      <dl className="grid grid-cols-[8rem_1fr] gap-x-3 gap-y-1">
        <dt className="text-soft">out</dt>
        <dd>
          <span className="tail">{w.old.serial}</span>, {w.old.model}, {w.old.capacity_bytes.toLocaleString("en-GB")}{" "}
          bytes, {w.old.bay ?? "no known bay"}
        </dd>
        {w.new?.serial && (
          <>
            <dt className="text-soft">in</dt>
            <dd>
              <span className="tail">{w.new.serial}</span>, {w.new.model},{" "}
              {w.new.capacity_bytes.toLocaleString("en-GB")} bytes, {w.new.bay ?? "no known bay"}
            </dd>
          </>
        )}
        <dt className="text-soft">people</dt>
        <dd>
          {r.people?.join(", ")}; led by {w.lead}
        </dd>
        {w.backup && (
          <>
            <dt className="text-soft">backup</dt>
            <dd>of {w.backup.slice(0, 10)}, as a person stated</dd>
          </>
        )}
        {w.loses && (
          <>
            <dt className="text-soft">lost on purpose</dt>
            <dd className="font-semibold">{w.loses.join(", ")}</dd>
          </>
        )}
        {w.fate && (
          <>
            <dt className="text-soft">the old drive</dt>
            <dd>
              {w.fate.fate}, by {w.fate.by} {w.fate.at && exact(new Date(w.fate.at))} {w.fate.note}
            </dd>
          </>
        )}
      </dl>
      {r.old?.findings && r.old.findings.length > 0 && (
        <section>
          <h2 className="mb-1">Why it was replaced</h2>
          <ul className="list-inside list-disc">
            {r.old.findings.map((f) => (
              <li key={f.rule}>
                {f.says} <span className="text-soft">since {exact(new Date(f.since))}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      <section>
        <h2 className="mb-1">How long at which margin</h2>
        <div className="flex h-5 w-full overflow-hidden rounded border border-edge" aria-hidden>
          {r.margins.map((m, i) => (
            <span
              key={i}
              style={{ flexGrow: Math.max(m.seconds, all / 200) }}
              className={
                !m.margin.known
                  ? "bg-line"
                  : (m.margin.members ?? 0) >= usual
                    ? "bg-fine"
                    : (m.margin.members ?? 0) <= 0
                      ? "bg-replace"
                      : "bg-watch"
              }
            />
          ))}
        </div>
        <ol className="mt-2 space-y-0.5">
          {r.margins.map((m, i) => (
            <li key={i} className="grid grid-cols-[11rem_7rem_1fr] gap-x-3">
              <span className="num text-sm text-soft">{exact(new Date(m.from))}</span>
              <span className="num">{span(m.seconds * 1000)}</span>
              <span>{m.margin.words}</span>
            </li>
          ))}
        </ol>
      </section>
      <section>
        <h2 className="mb-1">Steps</h2>
        <ol className="space-y-0.5">
          {r.steps.map((s, i) => (
            <li key={i} className="grid grid-cols-[11rem_7rem_1fr] gap-x-3">
              <span className="num text-sm text-soft">{exact(new Date(s.from))}</span>
              <span className="num">{span(s.seconds * 1000)}</span>
              <span>{s.title}</span>
            </li>
          ))}
        </ol>
      </section>
      {w.began && w.began.length > 0 && (
        <section>
          <h2>Checks when it began</h2>
          <Checks checks={w.began} />
        </section>
      )}
      {w.admitted && w.admitted.length > 0 && (
        <section>
          <h2>Checks of the new drive</h2>
          <Checks checks={w.admitted} />
        </section>
      )}
      {w.closing && w.closing.length > 0 && (
        <section>
          <h2>Checks at its end</h2>
          <Checks checks={w.closing} />
        </section>
      )}
      <section>
        <h2 className="mb-1">Events</h2>
        <ol className="space-y-1">
          {w.log.map((e, i) => (
            <li key={i} className="grid gap-x-3 sm:grid-cols-[11rem_6rem_1fr]">
              <span className="num text-sm text-soft">{exact(new Date(e.at))}</span>
              <span className="text-sm text-soft">{e.who}</span>
              <span>{e.says}</span>
            </li>
          ))}
        </ol>
      </section>
      {w.siblings && w.siblings.length > 0 && (
        <section>
          <h2 className="mb-1">Of the same batch</h2>
          <ul>
            {w.siblings.map((x) => (
              <li key={x.key}>
                <span className="tail">{x.tail}</span> {x.verdict} {x.bay} <span className="text-soft">{x.says}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </article>
  );
}
