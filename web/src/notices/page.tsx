import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { client, got, type S } from "../api/client";
import { clock, exact } from "../parts/format";
import { Ago, Empty, Failed, Mark, Title, Waiting } from "../parts/parts";
import { LevelBar } from "../round/page";
import { useTell } from "../parts/toast";
import { ChannelForm } from "./channel";

export default function NoticesPage() {
  const [params, setParams] = useSearchParams();
  const all = params.get("all") === "yes";
  const which = params.get("state") ?? "";
  const q = useQuery({
    queryKey: ["notices", all],
    queryFn: () => got(client.GET("/notices", { params: { query: { all } } })),
    placeholderData: (was) => was,
  });
  if (q.error) return <Failed what="The notices" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting rows={4} />;
  const heard = q.data.filter((n) => n.state === "open").length;
  return (
    <>
      <header className="mb-4 flex flex-wrap items-end justify-between gap-3">
        <Title>{heard === 0 ? "No new notices" : heard === 1 ? "1 new notice" : `${heard} new notices`}</Title>
        <span className="flex flex-wrap items-center gap-4 text-soft">
          <label className="flex items-center gap-2">
            Show
            <select
              className="field w-auto"
              value={which}
              onChange={(e) =>
                setParams(
                  { ...(all && { all: "yes" }), ...(e.target.value && { state: e.target.value }) },
                  { replace: true },
                )
              }
            >
              <option value="">all of them</option>
              <option value="open">new ones</option>
              <option value="acknowledged">those that were seen</option>
              <option value="muted">muted ones</option>
            </select>
          </label>
          <label className="flex min-h-9 items-center gap-2">
            <input
              type="checkbox"
              checked={all}
              onChange={(e) =>
                setParams(
                  { ...(e.target.checked && { all: "yes" }), ...(which && { state: which }) },
                  { replace: true },
                )
              }
            />{" "}
            include closed notices
          </label>
        </span>
      </header>
      {q.data.length === 0 && (
        <Empty>
          No open notices. A notice opens when a drive, a host, a pool or a recovery needs attention, and closes by
          itself.
        </Empty>
      )}
      <ul className="space-y-2.5">
        {q.data
          .filter((n) => !which || n.state === which)
          .map((n) => (
            <Notice key={n.id} notice={n} />
          ))}
      </ul>
      <Channels />
    </>
  );
}

/** Channels lists the channels by which notices are sent. */
function Channels() {
  const tell = useTell();
  const q = useQuery({ queryKey: ["channels"], queryFn: () => got(client.GET("/channels")) });
  const test = useMutation({
    mutationFn: async (id: string) => {
      const r = await client.POST("/channels/{id}/test", { params: { path: { id } } });
      if (r.error) throw new Error([r.error.title, r.error.detail].filter(Boolean).join(" "));
      return id;
    },
    onSuccess: (id) => tell(`${id} accepted the message.`),
    onError: (e: Error) => tell(e.message, true),
  });
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: (id: string) => got(client.DELETE("/channels/{id}", { params: { path: { id } } })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["channels"] }),
    onError: (e: Error) => tell(e.message, true),
  });
  if (!q.data) return null;
  return (
    <section aria-labelledby="channels" className="mt-8 border-t border-line pt-4">
      <h2 id="channels" className="mb-2 text-soft">
        Channels: where else they are sent
      </h2>
      {q.data.length === 0 && <p>Nowhere: they are shown only here and in the terminal.</p>}
      <ul className="space-y-2">
        {q.data.map((c) => (
          <li key={c.name} className="flex flex-wrap items-center justify-between gap-3">
            <span>
              <b>{c.name}</b> {c.kind} {c.url || c.to?.join(", ")}{" "}
              <span className="text-soft">
                from {c.least} on{c.quiet && `, quiet ${c.quiet} ${c.zone}`}
                {c.digest && `, digest at ${c.digest}`}
                {c.report && `, a report each ${c.report}`}
              </span>
              {c.waiting > 0 && (
                <span className="block text-watch">
                  {c.waiting} {c.waiting === 1 ? "message waits" : "messages wait"}
                  {c.error && `: ${c.error}`}
                </span>
              )}
            </span>
            <span className="flex flex-wrap gap-2">
              <button className="button" disabled={test.isPending} onClick={() => test.mutate(c.name)}>
                Send a test
              </button>
              <button className="button" disabled={remove.isPending} onClick={() => remove.mutate(c.name)}>
                Remove
              </button>
            </span>
          </li>
        ))}
      </ul>
      <ChannelForm />
    </section>
  );
}

const rails: Record<string, string> = { replace: "border-l-replace", dead: "border-l-dead" };

function Notice({ notice: n }: { notice: S["Notice"] }) {
  const queries = useQueryClient();
  const tell = useTell();
  const [note, setNote] = useState<string | null>(null);
  const done = {
    onSuccess: () => {
      setNote(null);
      void queries.invalidateQueries({ queryKey: ["notices"] });
    },
    onError: (e: Error) => tell(e.message, true),
  };
  const saw = useMutation({
    mutationFn: (words: string) =>
      got(client.POST("/notices/{id}/acknowledge", { params: { path: { id: n.id } }, body: { note: words } })),
    ...done,
  });
  const mute = useMutation({
    mutationFn: (v: { hours: number; note: string }) =>
      got(client.POST("/notices/{id}/mute", { params: { path: { id: n.id } }, body: v })),
    ...done,
    onSuccess: () => {
      setMuting(null);
      done.onSuccess();
    },
  });
  const [muting, setMuting] = useState<{ hours: number; note: string } | null>(null);
  const quiet = n.state !== "open";
  const where =
    n.drives?.length === 1
      ? `/drives/${n.drives[0]}`
      : n.pool
        ? `/pools/${encodeURIComponent(n.pool)}`
        : n.host
          ? `/bays/${n.host}`
          : undefined;
  const rail = n.kind === "filling" ? "border-l-level" : (rails[n.severity] ?? "border-l-watch");
  return (
    <li className={`sheet p-4 ${quiet ? "" : `border-l-4 ${rail}`}`}>
      <div className="flex flex-wrap items-start justify-between gap-x-6 gap-y-2">
        <div className="min-w-0 grow basis-72">
          <p className="flex flex-wrap items-center gap-x-3">
            {n.kind === "filling" ? (
              <span className="inline-flex items-center gap-1.5 font-semibold text-level-ink">
                <LevelBar share={n.severity === "replace" ? 0.95 : 0.8} /> filling up
              </span>
            ) : n.kind === "alarm" ? (
              <b className="text-dead">Stop</b>
            ) : (
              <Mark verdict={n.severity} />
            )}
            <span className="text-soft">
              {n.bay || n.pool || n.host}
              {n.bay && n.pool ? `, ${n.pool}` : ""}
            </span>
          </p>
          <p className={`mt-1 ${quiet ? "" : "font-semibold"}`}>{where ? <Link to={where}>{n.says}</Link> : n.says}.</p>
          {n.state !== "closed" && <p className="mt-0.5">→ {n.do}</p>}
          <p className="mt-1 text-sm text-soft">
            Opened <Ago at={n.opened_at} />
            {n.changed_at !== n.opened_at && n.state !== "closed" && (
              <>
                , changed <Ago at={n.changed_at} />
              </>
            )}
            {n.state === "acknowledged" && (
              <>
                . Seen by <b className="text-ink">{n.acknowledged_by}</b> <Ago at={n.acknowledged_at} />
                {n.note && <>: “{n.note}”</>}
              </>
            )}
            {n.state === "muted" && (
              <>
                . Muted until {exact(new Date(n.muted_until!))}, unless it gets worse
                {n.note && <>: “{n.note}”</>}
              </>
            )}
            {n.state === "closed" && (
              <>
                , over at {clock(new Date(n.closed_at!))}, <Ago at={n.closed_at} />; at its worst {n.worst}
              </>
            )}
          </p>
        </div>
        {n.state !== "closed" && note === null && (
          <div className="flex flex-wrap gap-2">
            {n.state !== "acknowledged" && (
              <button className="button" onClick={() => setNote("")}>
                I saw it
              </button>
            )}
            {n.state === "muted" ? (
              <button className="button" disabled={mute.isPending} onClick={() => mute.mutate({ hours: 0, note: "" })}>
                End the mute
              </button>
            ) : (
              <button
                className="button"
                aria-expanded={!!muting}
                onClick={() => setMuting(muting ? null : { hours: 24, note: "" })}
              >
                Mute
              </button>
            )}
          </div>
        )}
        {muting && (
          <form
            className="flex w-full flex-wrap items-center gap-2"
            onSubmit={(e) => {
              e.preventDefault();
              mute.mutate(muting);
            }}
          >
            <label className="flex items-center gap-2">
              for
              <select
                className="field w-auto"
                value={muting.hours}
                onChange={(e) => setMuting({ ...muting, hours: Number(e.target.value) })}
              >
                {[
                  [1, "1 hour"],
                  [8, "8 hours"],
                  [24, "1 day"],
                  [72, "3 days"],
                  [168, "1 week"],
                  [336, "2 weeks"],
                  [2160, "90 days"],
                ].map(([h, words]) => (
                  <option key={h} value={h}>
                    {words}
                  </option>
                ))}
              </select>
            </label>
            <label className="grow">
              <span className="sr-only">Why</span>
              <input
                className="field w-full"
                maxLength={1000}
                placeholder="Why (others see it; may be empty)"
                value={muting.note}
                onChange={(e) => setMuting({ ...muting, note: e.target.value })}
              />
            </label>
            <button className="button main" disabled={mute.isPending}>
              Mute, unless it gets worse
            </button>
            <button type="button" className="button" onClick={() => setMuting(null)}>
              Back
            </button>
          </form>
        )}
        {note !== null && (
          <form
            className="flex w-full flex-wrap gap-2"
            onSubmit={(e) => {
              e.preventDefault();
              saw.mutate(note);
            }}
          >
            <label className="grow">
              <span className="sr-only">What the others should know</span>
              <input
                className="field w-full"
                autoFocus
                maxLength={2000}
                placeholder="What the others should know (may be empty)"
                value={note}
                onChange={(e) => setNote(e.target.value)}
                onKeyDown={(e) => e.key === "Escape" && setNote(null)}
              />
            </label>
            <button className="button main" disabled={saw.isPending}>
              I saw it
            </button>
            <button type="button" className="button" onClick={() => setNote(null)}>
              Back
            </button>
          </form>
        )}
      </div>
    </li>
  );
}
