import { useMutation, useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { client, got } from "../api/client";
import { Place } from "../bays/drawing";
import { useAwake } from "../parts/attention";
import { exact } from "../parts/format";
import { Ago, Failed, Mark, Waiting } from "../parts/parts";
import { Standing } from "../recoveries/standing";
import { root } from "../api/root";
import { bayNow, Checks, Died, LightButton, params, StepNow, type Swap, useAct, Word } from "./step";

export default function SwapPage() {
  const { id = "" } = useParams();
  useAwake(true); // hands are at work by it
  const swap = useQuery({
    queryKey: ["swaps", id],
    queryFn: () => got(client.GET("/swaps/{id}", { params: { path: { id } } })),
  });
  const phase = swap.data?.phase;
  useEffect(() => {
    window.scrollTo(0, 0); // the present step must be visible
  }, [phase]);
  if (swap.error) return <Failed what="The swap" error={swap.error} again={() => void swap.refetch()} />;
  if (!swap.data) return <Waiting />;
  const w = swap.data;
  const now = w.steps.find((s) => s.state === "now");
  const past = w.steps.filter((s) => s.state === "past");
  const next = w.steps.filter((s) => s.state === "next");
  const bay = bayNow(w);
  // where something goes in, not out
  const tone = ["insert", "confirm", "rehouse"].includes(w.phase) ? "text-accent" : "text-replace";
  return (
    <div className="grid items-start gap-6 lg:grid-cols-[1fr_18rem]">
      <div className="min-w-0 space-y-4">
        <header
          className={
            "sticky top-(--top) z-20 -mx-4 flex items-center gap-4 border-b " +
            "border-line bg-ground px-4 py-2 lg:static lg:mx-0 lg:border-0 lg:px-0"
          }
        >
          {bay && (
            <span className="shrink-0 lg:hidden">
              <Place bay={bay} tone={tone} width={84} />
            </span>
          )}
          <div className="min-w-0">
            {bay && <p className="text-xl font-semibold lg:hidden">{bay}</p>}
            <h1 className="text-2xl! sm:text-3xl!" data-title={`Replace ${w.old.tail}`}>
              Replace <span className="tail">{w.old.tail}</span>
              {w.new?.tail && (
                <>
                  {" "}
                  by <span className="tail">{w.new.tail}</span>
                </>
              )}
            </h1>
            <p className="hidden text-soft sm:block">
              Swap in{" "}
              <Link to={`/pools/${encodeURIComponent(w.pool)}`} className="underline underline-offset-2">
                {w.pool}
              </Link>
              , slot {w.slot} · led by {w.lead}
            </p>
          </div>
        </header>
        {w.wrong?.map((x) => (
          <div key={x.tail} role="alert" className="rounded-lg border-4 border-replace bg-replace-sheet p-5">
            <p className="text-3xl font-semibold">
              Stop. Put <span className="tail">{x.tail}</span> back.
            </p>
            <p className="mt-2 flex items-center gap-4 text-xl">
              {x.bay && <Place bay={x.bay} tone="text-replace" width={120} />}
              {x.says}
            </p>
            <p className="mt-2">
              The swap waits until it is back. It left <Ago at={x.at} />.
            </p>
            {x.old && w.phase !== "planned" && <Died swap={w} tail={x.tail} />}
          </div>
        ))}
        {w.held && (
          <div role="status" className="rounded-lg border-2 border-watch bg-watch-sheet p-4">
            <p className="text-xl font-semibold">Held: {w.held}</p>
            <Word swap={w} word="resume" className="button main mt-3">
              Go on with it
            </Word>
          </div>
        )}
        {past.length > 0 && (
          <details className="px-1 text-soft">
            <summary className="min-h-8 cursor-pointer">
              {past.length} {past.length === 1 ? "step is" : "steps are"} done: {past.at(-1)?.title}
            </summary>
            <ol className="mt-1 list-inside list-decimal space-y-1">
              {past.map((s) => (
                <li key={s.phase}>{s.title}</li>
              ))}
            </ol>
          </details>
        )}
        {now && (!w.wrong?.length || (w.phase === "planned" && w.wrong.every((x) => x.old))) && (
          <StepNow swap={w} step={now} />
        )}
        {!w.open && <Ended swap={w} />}
        {next[0] && w.open && (
          <details className="rounded-lg border border-dashed border-line px-5 py-3 text-soft">
            <summary className="cursor-pointer">
              <span className="text-sm">next</span> <b className="font-semibold">{next[0].title}</b>
            </summary>
            {next.length > 1 && (
              <ol className="mt-2 list-inside list-decimal space-y-1">
                {next.slice(1).map((s) => (
                  <li key={s.phase}>{s.title}</li>
                ))}
              </ol>
            )}
          </details>
        )}
        <Log swap={w} />
      </div>
      <aside aria-label="Where, and how" className="sheet space-y-3 p-4 lg:sticky lg:top-[calc(var(--top)+1rem)]">
        {bay ? (
          <span className="hidden lg:block">
            <Place bay={bay} tone={tone} width={220} />
            <p className="text-xl font-semibold">{bay}</p>
          </span>
        ) : (
          <p>No bay is known on {w.host}: compare the label.</p>
        )}
        <dl className="space-y-2">
          <div>
            <dt className="text-sm text-soft">
              out{w.old_gone && ", gone"}
              {w.old.bay && w.old.bay !== bay && <> of {w.old.bay}</>}
            </dt>
            <dd>
              <Link to={`/drives/${w.old.key}`} className="tail text-2xl">
                {w.old.tail}
              </Link>
              <br />
              <span className="text-sm text-soft">{w.old.model}</span>
            </dd>
          </div>
          {w.phase === "confirm" && (
            <div>
              <dt className="text-sm text-soft">in</dt>
              <dd>read its label</dd>
            </div>
          )}
          {w.new?.tail && (
            <div>
              <dt className="text-sm text-soft">in{w.new.bay && w.new.bay !== w.old.bay && <>, {w.new.bay}</>}</dt>
              <dd>
                <Link to={`/drives/${w.new.key}`} className="tail text-2xl">
                  {w.new.tail}
                </Link>
                <br />
                <span className="text-sm text-soft">{w.new.model}</span>
              </dd>
            </div>
          )}
          {(w.places?.length ?? 0) > 1 && (
            <div>
              <dt className="text-sm text-soft">its places</dt>
              <dd>
                <ul className="space-y-1">
                  {w.places!.map((x) => (
                    <li key={`${x.pool} ${x.slot}`}>
                      <Link className="font-semibold" to={`/pools/${encodeURIComponent(x.pool)}`}>
                        {x.pool}
                      </Link>
                      , slot {x.slot}
                      {x.partition ? `, partition ${x.partition}` : ""}:{" "}
                      <span className="text-soft">{x.joined ? "has the new drive" : x.state}</span>
                    </li>
                  ))}
                </ul>
              </dd>
            </div>
          )}
          <div>
            <dt className="text-sm text-soft">how</dt>
            <dd>
              {w.recipe}
              {w.why && (
                <ul className="mt-1 list-inside list-disc text-sm text-soft">
                  {w.why.map((x) => (
                    <li key={x}>{x}</li>
                  ))}
                </ul>
              )}
            </dd>
          </div>
          {w.campaign && (
            <div>
              <dt className="text-sm text-soft">part of</dt>
              <dd>
                <Link className="underline underline-offset-2" to={`/campaigns/${w.campaign}`}>
                  the campaign in {w.pool}
                </Link>
              </dd>
            </div>
          )}
        </dl>
        {bay && <LightButton swap={w} bay={bay} />}
        <Link className="button w-full" to={`/swaps/${w.id}/card`}>
          Pull card
        </Link>
        <Link className="button w-full" to={`/swaps/${w.id}/record`}>
          Record
        </Link>
        {w.open && w.phase !== "planned" && (
          <details className="space-y-2">
            <summary className="min-h-8 cursor-pointer text-soft">Back, hold, hand over, abandon</summary>
            <Word swap={w} word="back" className="button small w-full">
              One step back
            </Word>
            {!w.held && (
              <Asked swap={w} word="hold" title="Hold this swap" what="Nothing is ordered until it goes on." />
            )}
            <Lead swap={w} />
            <Asked
              swap={w}
              word="abandon"
              title="Abandon this swap"
              what="What was done so far stays done; the record will say in what state the pool is left and what is owed."
            />
          </details>
        )}
        {w.phase === "planned" && (
          <Asked swap={w} word="abandon" title="Abandon this swap" what="Nothing was touched yet." />
        )}
      </aside>
    </div>
  );
}

/** Asked is a word that needs a reason. */
function Asked({ swap: w, word, title, what }: { swap: Swap; word: "hold" | "abandon"; title: string; what: string }) {
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState("");
  const act = useAct();
  const path = { hold: "/swaps/{id}/hold", abandon: "/swaps/{id}/abandon" } as const;
  const send = useMutation({
    mutationFn: () => got(client.POST(path[word], { params: params(w), body: { reason } })),
    ...act,
    onSuccess: (x: Swap) => {
      setOpen(false);
      act.onSuccess(x);
    },
  });
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button small w-full border-line text-soft">{title}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ground opacity-80" />
        <Dialog.Content className={"sheet dialog top-1/4 max-w-[30rem] space-y-4 p-5"}>
          <Dialog.Title className="text-xl font-semibold">
            {title}, of {w.old.tail}?
          </Dialog.Title>
          <Dialog.Description>{what}</Dialog.Description>
          <form
            onSubmit={(e) => {
              e.preventDefault();
              send.mutate();
            }}
            className="space-y-4"
          >
            <label className="block space-y-1">
              <span className="font-semibold">Why?</span>
              <input className="field" required value={reason} onChange={(e) => setReason(e.target.value)} />
            </label>
            <span className="flex gap-3">
              <button className="button main">{word === "hold" ? "Hold it" : "Abandon it"}</button>
              <Dialog.Close className="button">Go on with it</Dialog.Close>
            </span>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** Lead hands the swap over, or takes it over. */
function Lead({ swap: w }: { swap: Swap }) {
  const [to, setTo] = useState("");
  const [reason, setReason] = useState("");
  const people = useQuery({ queryKey: ["people"], queryFn: () => got(client.GET("/people")) });
  const lead = useMutation({
    mutationFn: () => got(client.POST("/swaps/{id}/lead", { params: params(w), body: { to, reason } })),
    ...useAct(),
  });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        lead.mutate();
      }}
      className="space-y-2 rounded-md border border-line p-3"
    >
      <label className="block text-sm">
        Hand the lead to
        <select className="field" value={to} onChange={(e) => setTo(e.target.value)}>
          <option value="">yourself</option>
          {people.data
            ?.filter((p) => !p.you)
            .map((p) => (
              <option key={p.name}>{p.name}</option>
            ))}
        </select>
      </label>
      <label className="block text-sm">
        Why, if {w.lead} is not asked
        <input className="field" value={reason} onChange={(e) => setReason(e.target.value)} />
      </label>
      <button className="button small w-full" disabled={lead.isPending}>
        {to ? `Hand it to ${to}` : "Take the lead"}
      </button>
    </form>
  );
}

const fates = { return: "goes back under warranty", stock: "goes to stock", destroy: "is destroyed" } as const;

function Ended({ swap: w }: { swap: Swap }) {
  const [note, setNote] = useState("");
  const fate = useMutation({
    mutationFn: (x: keyof typeof fates) =>
      got(client.POST("/swaps/{id}/fate", { params: params(w), body: { fate: x, note: note.trim() || undefined } })),
    ...useAct(),
  });
  return (
    <section className="sheet space-y-4 p-5">
      <div>
        <h2 className="text-3xl!">{w.phase === "closed" ? "Closed, verified" : "Abandoned"}</h2>
        <p className="mt-1 text-xl">{w.phase === "closed" ? `${w.pool} is healthy.` : w.log[w.log.length - 1]?.says}</p>
      </div>
      {w.phase === "closed" && (
        <div>
          <h3 className="font-semibold">
            What becomes of <span className="tail">{w.old.tail}</span>?
          </h3>
          {w.fate ? (
            <p>
              It {fates[w.fate.fate]}, says {w.fate.by}. {w.fate.note}
            </p>
          ) : (
            <span className="mt-2 flex flex-wrap items-end gap-2">
              <label className="w-full max-w-md">
                <span className="mb-1 block text-sm text-soft">Note (may be empty)</span>
                <input
                  className="field"
                  placeholder="such as: return number 4711, sent on Friday"
                  maxLength={2000}
                  value={note}
                  onChange={(e) => setNote(e.target.value)}
                />
              </label>
              {(Object.keys(fates) as (keyof typeof fates)[]).map((x) => (
                <button key={x} className="button" disabled={fate.isPending} onClick={() => fate.mutate(x)}>
                  It {fates[x]}
                </button>
              ))}
            </span>
          )}
          <p className="mt-2">
            <a className="underline underline-offset-2" href={`${root}/api/v1/swaps/${w.id}/evidence`} download>
              Evidence for a return, as one file
            </a>
          </p>
        </div>
      )}
      {w.siblings && w.siblings.length > 0 && (
        <div>
          <h3 className="font-semibold">Of the same batch</h3>
          <ul>
            {w.siblings.map((x) => (
              <li key={x.key} className="flex flex-wrap items-baseline gap-x-3 py-1">
                <Link to={`/drives/${x.key}`} className="tail text-lg">
                  {x.tail}
                </Link>
                <Mark verdict={x.verdict} size={16} />
                <span className="text-soft">{[x.bay, x.pool, x.says].filter(Boolean).join(" · ")}</span>
              </li>
            ))}
          </ul>
        </div>
      )}
      {w.phase === "closed" && w.closing && <Checks checks={w.closing} />}
      {w.recovery && <Standing recovery={w.recovery} height={150} />}
    </section>
  );
}

function Log({ swap: w }: { swap: Swap }) {
  return (
    <section aria-labelledby="record" className="pt-2">
      <h2 id="record" className="mb-2 text-soft">
        Record
      </h2>
      <ol className="space-y-1.5">
        {[...w.log].reverse().map((e, i) => (
          <li key={i} className="grid gap-x-4 sm:grid-cols-[11rem_6rem_1fr]">
            <span className="num text-sm text-soft">{exact(new Date(e.at))}</span>
            <span className="text-sm text-soft">{e.who}</span>
            <span>{e.says}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}
