import { useMutation } from "@tanstack/react-query";
import { useNavigate, useSearchParams } from "react-router";
import { Link } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useNow, useRound } from "../api/live";
import { Place } from "../bays/drawing";
import { decimal, exact, finish, percent } from "../parts/format";
import { Failed, Mark, Seam, Shape, Spark, Tail, Waiting, Lasting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { AsOf, At, To } from "../parts/to";
import { Unreached } from "../sites/unreached";
import { Welcome } from "./welcome";

const rails: Record<string, string> = { replace: "border-l-replace", dead: "border-l-dead", watch: "border-l-watch" };
const inks: Record<string, string> = { replace: "text-replace", dead: "text-dead", watch: "text-watch" };

export default function RoundPage() {
  const round = useRound();
  const [params, setParams] = useSearchParams();
  const walking = params.get("order") === "walk";
  if (round.error) return <Failed what="The round" error={round.error} again={() => void round.refetch()} />;
  if (!round.data) return <Waiting rows={5} />;
  const r = round.data;
  const place = (l: S["RoundLine"]) =>
    (l.site ?? "") + "/" + (l.room ?? "~") + "/" + (l.bay ?? l.host ?? "~").replace(/\d+$/, (n) => n.padStart(4, "0"));
  const lines = walking ? [...r.lines].sort((a, b) => place(a).localeCompare(place(b))) : r.lines;
  const loud = lines.filter((l) => l.verdict === "replace" || l.verdict === "dead").length;
  const unsure = r.pools ?? [];
  const silent = r.silent ?? [];
  const unreached = r.sites ?? [];
  const unknown =
    unreached.length > 0 ||
    r.hosts === 0 ||
    r.drives === 0 ||
    r.awaited.length > 0 ||
    unsure.length > 0 ||
    silent.length > 0;
  return (
    <>
      <header className="mb-4 flex flex-wrap items-end justify-between gap-3">
        <h1>
          {lines.length
            ? loud
              ? `${loud} ${loud === 1 ? "drive needs" : "drives need"} a hand`
              : unknown || r.trouble?.says
                ? "Not everything is known"
                : "Nothing is urgent"
            : r.hosts === 0 || r.drives === 0
              ? "Nothing is known yet"
              : unreached.length || r.awaited.length || unsure.length || silent.length || r.trouble?.says
                ? "Not everything is known yet"
                : "Nothing needs a hand"}
        </h1>
        {lines.length > 1 && (
          <label className="flex items-center gap-2 text-soft">
            Order
            <select
              className="field w-auto"
              value={walking ? "walk" : "stake"}
              onChange={(e) => setParams(e.target.value === "walk" ? { order: "walk" } : {}, { replace: true })}
            >
              <option value="stake">by stake</option>
              <option value="walk">for walking</option>
            </select>
          </label>
        )}
      </header>
      <Unreached sites={unreached} />
      {r.hosts === 0 && r.headquarters && unreached.length === 0 && (
        <p className="sheet mb-2.5 px-6 py-4">
          No site is connected, so there is no data. Invite one on the page <Link to="/sites">Sites</Link>.
        </p>
      )}
      {r.hosts === 0 && !r.headquarters && (
        <>
          <p className="mb-4 max-w-2xl">
            No host is enrolled, so no drive is known. Three steps lead to a fleet that is watched; each is ticked off
            by itself.
          </p>
          <Welcome />
        </>
      )}
      {r.hosts > 0 && !r.headquarters && r.awaited.length === r.hosts && <Welcome />}
      {r.hosts > r.awaited.length && r.drives === 0 && (
        <p className="sheet mb-2.5 px-6 py-4">
          No drive is known: the hosts report none. What an agent sees on its host: <code>lantern agent --print</code>
        </p>
      )}
      {r.awaited.length > 0 && (
        <p className="sheet mb-2.5 px-6 py-4">Nothing is known yet of {r.awaited.join(", ")}: no report has come.</p>
      )}
      {lines.length === 0 && !unknown && (
        <p className="sheet px-6 py-10 text-center">
          All drives that can tell say that they are well. Last known to be so at{" "}
          <span className="num">{exact(new Date(r.at))}</span>.
        </p>
      )}
      {silent.length > 0 && (
        <ul className="mb-2.5 space-y-2.5" aria-label="Hosts that do not report">
          {silent.map((h) => (
            <li key={`${h.site} ${h.host}`} className="sheet barred border-dashed border-edge p-4">
              <p className="flex items-start gap-2 text-lg">
                <span className="mt-1">
                  <Shape verdict="unknown" />
                </span>
                <span>
                  <At site={h.site} />
                  <To
                    site={h.site}
                    to={`/bays/${encodeURIComponent(h.host)}`}
                    className="font-semibold underline underline-offset-2"
                  >
                    {h.host}
                  </To>
                  {h.says.slice(h.host.length)}
                  <span className="text-soft">
                    {" "}
                    <Lasting since={h.since} />
                    <AsOf at={h.as_of} />
                  </span>
                </span>
              </p>
              {h.pools.length > 0 && (
                <p className="pl-7 text-soft">
                  {h.pools.slice(0, 8).join(", ")}
                  {h.pools.length > 8 && ` and ${h.pools.length - 8} more`}
                </p>
              )}
              <p className="mt-1 pl-7">→ {h.do}</p>
            </li>
          ))}
        </ul>
      )}
      <ol className="space-y-2.5">
        {lines.map((l, i) => (
          <Line key={`${l.site} ${l.drive}`} line={l} first={i === 0 && !walking} />
        ))}
      </ol>
      {r.underway.length > 0 && <UnderWay items={r.underway} />}
      {unsure.length > 0 && (
        <section aria-labelledby="unsure" className="mt-8 border-t border-line pt-4">
          <h2 id="unsure" className="mb-3">
            Pools in an unknown state
          </h2>
          <ul className="space-y-3">
            {unsure.map((p) => (
              <li key={`${p.site} ${p.id ?? p.pool}`} className="sheet p-4">
                <p className="flex items-start gap-2">
                  <span className="mt-0.5">
                    <Shape verdict="unknown" />
                  </span>
                  <span>
                    <At site={p.site} />
                    <To site={p.site} to={`/pools/${encodeURIComponent(p.id ?? p.pool)}`} className="font-semibold">
                      {p.pool}
                    </To>
                    : {p.says}
                    <AsOf at={p.as_of} />.
                  </span>
                </p>
                <p className="mt-1 pl-7">→ {p.do}</p>
              </li>
            ))}
          </ul>
        </section>
      )}
      {r.filling.length > 0 && (
        <section aria-labelledby="filling" className="mt-8 border-t border-line pt-4">
          <h2 id="filling" className="mb-3 text-soft">
            Filling up
          </h2>
          <ul className="space-y-2">
            {r.filling.map((f) => (
              <li key={`${f.site} ${f.pool}`} className="flex flex-wrap items-center gap-x-4 gap-y-1">
                <LevelBar share={f.used_bytes / f.capacity_bytes} />
                <span>
                  <At site={f.site} />
                  <To site={f.site} to={`/pools/${encodeURIComponent(f.pool)}`} className="font-semibold">
                    {f.pool}
                  </To>
                </span>
                <span className="num text-soft">
                  {Math.round((100 * f.used_bytes) / f.capacity_bytes)} % full, {decimal(f.used_bytes)} of{" "}
                  {decimal(f.capacity_bytes)}
                  <AsOf at={f.as_of} />
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  );
}

export const LevelBar = ({ share }: { share: number }) => (
  <svg viewBox="0 0 20 20" width="20" height="20" aria-hidden className="shrink-0 text-level-ink">
    <rect x="2" y="1" width="16" height="18" rx="2" fill="none" stroke="currentColor" strokeWidth="2" />
    <rect x="4" y={3 + 14 * (1 - share)} width="12" height={14 * share} fill="currentColor" />
  </svg>
);

function Line({ line: l, first }: { line: S["RoundLine"]; first: boolean }) {
  const go = useNavigate();
  const tell = useTell();
  const plan = useMutation({
    mutationFn: () => got(client.POST("/swaps", { params: once(), body: { drive: l.drive } })),
    onSuccess: (w) => void go(`/swaps/${w.id}`),
    onError: (e) => tell(e.message, true),
  });
  const urgent = l.verdict === "replace" || l.verdict === "dead";
  return (
    <li
      className={[
        "sheet grid items-center gap-x-4 gap-y-3 border-l-[6px] p-4",
        l.site ? "grid-cols-2 md:grid-cols-[1fr_auto_auto]" : "grid-cols-[auto_1fr] md:grid-cols-[auto_1fr_auto_auto]",
        rails[l.verdict] ?? "",
      ].join(" ")}
    >
      {!l.site && (
        <div className={`hidden w-24 justify-center sm:flex ${inks[l.verdict] ?? ""}`}>
          {l.bay && <Place bay={l.bay} tone={inks[l.verdict]} />}
        </div>
      )}
      <div className={`col-span-2 min-w-0 ${l.site ? "md:col-span-1" : "sm:col-span-1"}`}>
        <p className="flex flex-wrap items-center gap-x-3">
          <Mark verdict={l.verdict} />
          <span className="font-semibold">
            <At site={l.site} />
            {l.bay ?? l.host}
          </span>
          <Tail tail={l.tail} site={l.site} to={`/drives/${l.drive}`} />
        </p>
        <p className={first ? "text-xl font-semibold leading-snug" : "text-lg leading-snug"}>
          <To site={l.site} to={`/drives/${l.drive}`}>
            {l.tail} {l.says}.
          </To>
        </p>
        <p className="text-sm text-soft">
          {l.pool && (
            <>
              <To site={l.site} to={`/pools/${encodeURIComponent(l.pool)}`}>
                {l.pool}
              </To>
              : {l.margin.words}
              {l.margin_after?.words && l.margin_after.words !== l.margin.words
                ? `; without it: ${l.margin_after.words}`
                : ""}{" "}
              ·{" "}
            </>
          )}
          <Lasting since={l.since} />
          <AsOf at={l.as_of} />
          {l.also ? ` · ${l.also} more` : ""}
        </p>
      </div>
      <div className={`hidden text-right md:block ${inks[l.verdict] ?? ""}`}>
        {l.spark && l.spark.length > 1 && (
          <>
            <Spark values={l.spark} label={`${l.metric} over 14 days`} />
            <span className="block text-xs text-soft">{l.unit}, 14 days</span>
          </>
        )}
      </div>
      <div className="col-span-2 md:col-span-1">
        {l.swap ? (
          <To className="button main w-full md:w-40" site={l.site} to={`/swaps/${l.swap}`}>
            Open the swap
          </To>
        ) : urgent && l.pool && !l.site ? (
          <button
            className={`button w-full md:w-40 ${first ? "main" : ""}`}
            disabled={plan.isPending}
            onClick={() => plan.mutate()}
          >
            Plan a swap
          </button>
        ) : (
          <To className="button w-full md:w-40" site={l.site} to={`/drives/${l.drive}`}>
            Look{l.site && ` at ${l.site}`}
          </To>
        )}
      </div>
    </li>
  );
}

function UnderWay({ items }: { items: S["UnderWay"][] }) {
  const now = useNow();
  return (
    <section aria-labelledby="underway" className="mt-8 border-t border-line pt-4">
      <h2 id="underway" className="mb-3 text-soft">
        Under way
      </h2>
      <ul className="space-y-3">
        {items.map((u) => (
          <li key={`${u.site} ${u.id}`} className={u.alarm ? "sheet border-2 border-replace bg-replace-sheet p-4" : ""}>
            {u.alarm && <p className="text-xl font-semibold">Stop: {u.alarm}</p>}
            <At site={u.site} />
            <To site={u.site} to={`/${u.kind === "swap" ? "swaps" : "recoveries"}/${u.id}`} className="font-semibold">
              {u.says}
            </To>
            <AsOf at={u.as_of} />
            {u.kind === "recovery" && (
              <div className="mt-1 grid items-center gap-x-4 sm:grid-cols-[minmax(8rem,20rem)_1fr]">
                <Seam share={u.share ?? 0} label={u.says} />
                <span className="num text-sm text-soft">
                  {percent(u.share ?? 0)}, {finish(now, u.finish)}
                </span>
              </div>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
