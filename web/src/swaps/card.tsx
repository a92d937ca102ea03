import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { encode } from "uqr";
import { client, got } from "../api/client";
import { useBays } from "../bays/drawing";
import { useAwake } from "../parts/attention";
import { binary, decimal, exact } from "../parts/format";
import { Failed, NotReal, Waiting } from "../parts/parts";
import { root } from "../api/root";
import { warrantyWords } from "../inventory/item";

/** PullCard is one page to print, or to hold on a phone: which drive, where, and what to do. */
export default function PullCard() {
  const { id = "" } = useParams();
  useAwake(true);
  const q = useQuery({
    queryKey: ["swaps", id],
    queryFn: () => got(client.GET("/swaps/{id}", { params: { path: { id } } })),
  });
  const w = q.data;
  const drive = useQuery({
    queryKey: ["drive", w?.old.key],
    enabled: !!w,
    queryFn: () => got(client.GET("/drives/{drive}", { params: { path: { drive: w!.old.key } } })),
  });
  const [host, section, number] = (w?.old.bay ?? "").split("/");
  const map = useBays(host || undefined);
  if (q.error) return <Failed what="The pull card" error={q.error} again={() => void q.refetch()} />;
  if (!w || !drive.data) return <Waiting rows={6} />;
  const d = drive.data;
  const sec = map.data?.sections.find((s) => s.name === section);
  const address = `${location.origin}${root}/swaps/${w.id}`;
  const hands = w.steps.filter((s) => s.kind === "hands" || s.kind === "confirm");
  return (
    <article className="card mx-auto max-w-3xl space-y-4">
      <div className="no-print flex flex-wrap gap-3">
        <button className="button main" onClick={() => window.print()}>
          Print or save as PDF
        </button>
        <Link className="button" to={`/swaps/${w.id}`}>
          Back to the swap
        </Link>
      </div>
      <header className="flex items-start justify-between gap-6 border-b-4 border-ink pb-3">
        <div>
          <p className="text-soft">
            Pull card
            <NotReal />
          </p>
          <h1 className="text-4xl!">
            {w.old.bay ? (
              <>
                {host} / {section} / <span className="text-6xl">{number}</span>
              </>
            ) : (
              <>{w.host}, bay unknown</>
            )}
          </h1>
        </div>
        <Qr text={address} />
      </header>
      {w.wrong?.map((x) => (
        <p key={x.tail} role="alert" className="border-4 border-replace p-3 text-2xl font-semibold">
          Stop. Put {x.tail} back. {x.says}
        </p>
      ))}
      {!d.bay_confirmed && (
        <p className="border-4 border-dashed border-edge p-3 text-xl font-semibold">
          {w.old.bay ? "This bay is a guess: no person has confirmed it." : "Its bay is unknown."} Use only the label.
        </p>
      )}
      <div className="grid items-start gap-x-8 gap-y-4 sm:grid-cols-[1fr_auto]">
        <div>
          <p className="text-soft">on its label, at the end of the serial</p>
          <p className="tail text-7xl leading-tight" style={{ letterSpacing: "0.14em" }}>
            {w.old.tail}
          </p>
          <dl className="mt-3 grid grid-cols-[7rem_1fr] gap-x-3 gap-y-0.5 wrap-anywhere">
            <dt className="text-soft">serial</dt>
            <dd className="tail">{w.old.serial}</dd>
            <dt className="text-soft">model</dt>
            <dd>{w.old.model}</dd>
            <dt className="text-soft">capacity</dt>
            <dd className="num">
              {decimal(w.old.capacity_bytes)} ({binary(w.old.capacity_bytes)})
            </dd>
            <dt className="text-soft">pool</dt>
            <dd>
              {w.pool}, slot {w.slot}
            </dd>
            <dt className="text-soft">margin</dt>
            <dd>
              {d.margin?.words ?? "unknown"}; without this drive: {d.margin_after?.words ?? "unknown"}
            </dd>
            {d.inventory?.fields.asset && (
              <>
                <dt className="text-soft">asset</dt>
                <dd>{d.inventory.fields.asset}</dd>
              </>
            )}
            {d.inventory?.fields.warranty && (
              <>
                <dt className="text-soft">warranty</dt>
                <dd>
                  until {d.inventory.fields.warranty}, {warrantyWords(d.inventory)}
                  {d.inventory.fields.supplier && `; from ${d.inventory.fields.supplier}`}
                </dd>
              </>
            )}
            <dt className="text-soft">why</dt>
            <dd>{d.says}</dd>
          </dl>
        </div>
        {sec && (
          <figure
            className="min-w-0 overflow-x-auto"
            aria-label={`bay ${number} of ${section}, seen from where you stand`}
          >
            <div
              className="grid gap-0.5 border-2 border-ink p-1"
              style={{ gridTemplateColumns: `repeat(${sec.columns}, 1fr)` }}
            >
              {sec.bays.map((b) => {
                const here = String(b.number) === number;
                return (
                  <span
                    key={b.number}
                    style={{ gridRow: b.row + 1, gridColumn: b.column + 1 }}
                    className={[
                      "num flex items-center justify-center border text-xs",
                      sec.upright ? "h-14 w-6" : "h-7 w-14",
                      here ? "marked border-ink text-base font-bold" : "border-line text-soft",
                    ].join(" ")}
                  >
                    {b.name || b.number}
                  </span>
                );
              })}
            </div>
            <figcaption className="mt-1 text-sm text-soft">{section}, seen from where you stand</figcaption>
          </figure>
        )}
      </div>
      <section>
        <h2 className="mb-1">Bring</h2>
        <ul className="list-inside list-disc">
          <li>
            an empty drive of at least <span className="num">{w.needs_bytes.toLocaleString("en-GB")}</span> bytes (
            {decimal(w.needs_bytes)}, {binary(w.needs_bytes)}), {d.form_factor || "of the same form"}
            {d.medium && d.medium !== "unknown" && `, ${d.medium}`}
          </li>
          <li>a wrist strap, the caddy's screwdriver, and a bag for the old drive</li>
        </ul>
      </section>
      <section>
        <h2 className="mb-1">By hand</h2>
        <ol className="list-inside list-decimal space-y-1.5">
          {hands.map((s, i) => (
            <li key={i}>
              <b>{s.title}.</b> {s.what}
              {s.expect && <span className="text-soft"> You should see: {s.expect}</span>}
            </li>
          ))}
        </ol>
      </section>
      <p className="border-t border-line pt-2 text-sm wrap-anywhere text-soft">
        Only when the swap says so, on a screen, at that moment: {address}. Led by {w.lead}; written {exact(new Date())}
        . If anything differs from this card, stop.
      </p>
    </article>
  );
}

function Qr({ text }: { text: string }) {
  const { data, size } = encode(text, { border: 2 });
  return (
    <svg
      viewBox={`0 0 ${size} ${size}`}
      width="112"
      height="112"
      role="img"
      aria-label={`QR code of ${text}`}
      shapeRendering="crispEdges"
      className="shrink-0"
    >
      <rect width={size} height={size} fill="var(--qr)" />
      <path
        fill="var(--qr-ink)"
        d={data.flatMap((row, y) => row.map((on, x) => (on ? `M${x} ${y}h1v1h-1z` : ""))).join("")}
      />
    </svg>
  );
}
