import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useMe } from "../api/live";
import { Place } from "../bays/drawing";
import { exact } from "../parts/format";
import { Ago, Failed, Mark, Waiting } from "../parts/parts";
import { useDraft } from "../parts/draft";
import { useTell } from "../parts/toast";
import { Standing } from "../recoveries/standing";
import { root } from "../api/root";

type Swap = S["Swap"];

export default function SwapPage() {
  const { id = "" } = useParams();
  const swap = useQuery({
    queryKey: ["swaps", id],
    queryFn: () => got(client.GET("/swaps/{id}", { params: { path: { id } } })),
  });
  const phase = swap.data?.phase;
  useEffect(() => {
    window.scrollTo(0, 0); // the step that is now is what is read next
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
              Nothing goes on until it is back. It left <Ago at={x.at} />.
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

/** bayNow is where hands are meant to be at this step. */
function bayNow(w: Swap): string | undefined {
  if ((w.phase === "insert" || w.phase === "confirm") && w.into) return w.new?.bay ?? w.into;
  return w.old.bay;
}

function useAct() {
  const tell = useTell();
  const queries = useQueryClient();
  return {
    onSuccess: (w: Swap) => {
      queries.setQueryData(["swaps", w.id], w);
      void queries.invalidateQueries({ queryKey: ["round"] });
    },
    onError: (e: Error) => tell(e.message, true),
  };
}

const params = (w: Swap) => ({ path: { id: w.id }, header: { ...once().header, "If-Match": `"${w.version}"` } });

const acts: Record<string, string> = {
  scrub: "Order the scrub",
  drain: "Order the drain",
  release: "Remove the place from the pool",
  refill: "Order that they are filled",
  still: "Nothing works on it any more",
  recover: "Nudge the pool",
  rehouse: "It stays where it is",
  join: "Order that it joins",
};

function StepNow({ swap: w, step }: { swap: Swap; step: S["Step"] }) {
  const me = useMe();
  const [reason, setReason] = useState("");
  const watched = ["scrub", "drain", "refill", "recover", "verify"].includes(w.phase);
  const gate = w.gate?.filter((c) => c.result !== "passes") ?? [];
  return (
    <section
      aria-label="This step"
      className={`sheet border-l-[6px] p-5 ${w.hold ? "border-l-replace" : "border-l-accent"}`}
    >
      <p className="text-sm text-soft">
        {
          (
            { check: "look", hands: "your hands", confirm: "confirm", do: "the host", wait: "wait" } as Record<
              string,
              string
            >
          )[step.kind]
        }
      </p>
      <h2 className="text-3xl!">{step.title}</h2>
      <p className="mt-2 text-xl">{step.what}</p>
      {w.hold && (
        <div role="alert" className="mt-4 rounded-md border-2 border-replace bg-replace-sheet p-4 text-lg">
          <b>Not now:</b> {w.hold}.
        </div>
      )}
      {step.needs && (
        <p className="mt-3">
          <b>Bring</b> {step.needs.join("; ")}.
        </p>
      )}
      <p className="mt-2 text-soft">{step.why}</p>
      {w.refused && (
        <div role="alert" className="mt-4 rounded-md border-2 border-replace bg-replace-sheet p-4">
          <b>
            {w.refused_tail
              ? `${w.refused_tail} was refused`
              : w.phase === "insert"
                ? "Set aside"
                : "It did not go well"}
            :
          </b>{" "}
          {w.refused}.
        </div>
      )}
      <div className="mt-4 space-y-4">
        {w.phase === "planned" && w.spare && <KeepSpare swap={w} />}
        {w.phase === "planned" && <Begin swap={w} />}
        {w.phase === "confirm" && <ConfirmTail swap={w} />}
        {step.acts && acts[w.phase] && !w.hold && !w.held && (
          <>
            {w.phase === "scrub" && w.refused && (
              <label className="block space-y-1">
                <span className="font-semibold">Why do you go on all the same?</span>
                <input className="field" value={reason} onChange={(e) => setReason(e.target.value)} />
              </label>
            )}
            <Word swap={w} word="next" reason={reason} className="button main w-full text-lg sm:w-auto">
              {acts[w.phase]}
            </Word>
          </>
        )}
        {watched && w.recovery && <Standing recovery={w.recovery} height={170} />}
        {gate.length > 0 && !w.hold && w.phase !== "confirm" && <Checks checks={gate} />}
        {w.phase === "verify" && w.closing && <Checks checks={w.closing} />}
        {me.data?.lab && <LabHands swap={w} />}
      </div>
      <p className="mt-4 border-t border-line pt-3 text-sm text-soft">
        <b>You should see:</b> {step.expect}
        {step.takes && (
          <>
            {" "}
            <b>Usually:</b> {step.takes}.
          </>
        )}
        {step.if_not && <> {step.if_not}</>}
      </p>
    </section>
  );
}

/** KeepSpare plans the same swap without the pool's spare. */
function KeepSpare({ swap: w }: { swap: Swap }) {
  const act = useMutation({
    mutationFn: () => got(client.POST("/swaps", { params: once(), body: { drive: w.old.key, keep_spare: true } })),
    ...useAct(),
  });
  return (
    <p className="flex flex-wrap items-center gap-3">
      <span>The spare at {w.spare} takes its place. Is it meant for something else?</span>
      <button className="button" disabled={act.isPending} onClick={() => act.mutate()}>
        Keep the spare
      </button>
    </p>
  );
}

/** Died takes a person's word that the old drive, which left before its turn, will not come back. */
function Died({ swap: w, tail }: { swap: Swap; tail: string }) {
  const [reason, setReason] = useState("");
  return (
    <div className="mt-4 flex flex-wrap items-end gap-3 border-t border-line pt-3">
      <label className="grow space-y-1">
        <span className="font-semibold">If {tail} died: how do you know?</span>
        <input className="field" value={reason} onChange={(e) => setReason(e.target.value)} />
      </label>
      {reason.trim() ? (
        <Word swap={w} word="next" reason={reason} className="button">
          Go on without it
        </Word>
      ) : (
        <button className="button" disabled>
          Go on without it
        </button>
      )}
    </div>
  );
}

/** Word is a button for one word of the person who leads: next, back, resume. */
function Word({
  swap: w,
  word,
  reason = "",
  className,
  children,
}: {
  swap: Swap;
  word: "next" | "back" | "resume";
  reason?: string;
  className: string;
  children: React.ReactNode;
}) {
  const path = { next: "/swaps/{id}/next", back: "/swaps/{id}/back", resume: "/swaps/{id}/resume" } as const;
  const act = useMutation({
    mutationFn: () => got(client.POST(path[word], { params: params(w), body: { reason } })),
    ...useAct(),
  });
  return (
    <button className={className} disabled={act.isPending} onClick={() => act.mutate()}>
      {children}
    </button>
  );
}

const marks = {
  passes: ["✓", "text-fine", "passes"],
  warns: ["!", "text-watch", "warns"],
  stops: ["✗", "text-replace", "stops"],
} as const;

export function Checks({ checks }: { checks: S["Check"][] }) {
  // What stops or warns comes first: it is what must be read.
  const order = { stops: 0, warns: 1, passes: 2 };
  return (
    <ul className="divide-y divide-line">
      {[...checks]
        .sort((a, b) => order[a.result] - order[b.result])
        .map((c) => {
          const [sign, ink, word] = marks[c.result];
          return (
            <li key={c.id} className="grid grid-cols-[1.500rem_1fr] gap-x-2 py-2.5">
              <span className={`text-lg font-bold leading-tight ${ink}`} aria-hidden>
                {sign}
              </span>
              <div>
                <p>
                  <b>{c.title}</b> <span className={`text-sm ${ink}`}>{word}</span>: {c.found}.{c.do && <b> {c.do}</b>}
                </p>
                <p className="text-sm text-soft">looked at: {c.looked}</p>
              </div>
            </li>
          );
        })}
    </ul>
  );
}

function Begin({ swap: w }: { swap: Swap }) {
  const [reason, setReason] = useState("");
  const [backup, setBackup] = useState("");
  const [none, setNone] = useState(false);
  const [pool, setPool] = useState("");
  useDraft(reason !== "" || pool !== "");
  const losing = w.checks.flatMap((c) => c.loses ?? []);
  const stops = w.checks.some((c) => c.result === "stops" && !c.loses?.length);
  const warns = w.checks.some((c) => c.result === "warns") || losing.length > 0;
  const asks = w.checks.some((c) => c.id === "backup" && c.result === "warns");
  const begin = useMutation({
    mutationFn: () =>
      got(
        client.POST("/swaps/{id}/begin", {
          params: params(w),
          body: { reason, no_backup: none, pool: pool || undefined, backup: (none ? undefined : backup) || undefined },
        }),
      ),
    ...useAct(),
  });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        begin.mutate();
      }}
      className="space-y-4"
    >
      <Checks checks={w.checks} />
      {losing.length > 0 && !stops && (
        <label className="block space-y-1 rounded-md border-4 border-replace bg-replace-sheet p-4">
          <span className="block text-lg font-semibold">
            {losing.join(", ")} will be lost. If that is meant, type the name of the pool.
          </span>
          <input
            className="field"
            autoComplete="off"
            spellCheck={false}
            required
            value={pool}
            onChange={(e) => setPool(e.target.value)}
          />
        </label>
      )}
      {asks && !stops && (
        <fieldset className="space-y-2">
          <legend className="font-semibold">
            During this swap the pool cannot lose another drive. When was the newest backup made?
          </legend>
          <span className="flex flex-wrap items-center gap-4">
            <input
              type="date"
              aria-label="day of the newest backup"
              className="field max-w-52"
              disabled={none}
              required={!none}
              value={backup}
              onChange={(e) => setBackup(e.target.value)}
            />
            <label className="flex min-h-11 items-center gap-2">
              <input type="checkbox" className="size-5" checked={none} onChange={(e) => setNone(e.target.checked)} />{" "}
              there is none
            </label>
          </span>
        </fieldset>
      )}
      {warns && !stops && (
        <label className="block space-y-1">
          <span className="font-semibold">A check warns. Why do you go on?</span>
          <input className="field" required value={reason} onChange={(e) => setReason(e.target.value)} />
        </label>
      )}
      <button className="button main w-full text-lg sm:w-auto" disabled={stops || begin.isPending}>
        {stops ? "A check stops this swap" : "Begin the swap"}
      </button>
    </form>
  );
}

/**
 * ConfirmTail asks for the label tail; what speaks against the new drive stands above, what speaks for it is folded
 * below.
 */
function ConfirmTail({ swap: w }: { swap: Swap }) {
  const [tail, setTail] = useState("");
  const [reason, setReason] = useState("");
  const field = useRef<HTMLInputElement>(null);
  const act = useAct();
  const tell = useTell();
  const looked = w.gate ?? [];
  const against = looked.filter((c) => c.result !== "passes");
  const passed = looked.filter((c) => c.result === "passes");
  const stops = against.some((c) => c.result === "stops");
  const untested = against.some((c) => c.id === "new-accepted" && c.result === "warns");
  const confirm = useMutation({
    mutationFn: () =>
      got(client.POST("/swaps/{id}/confirm", { params: params(w), body: { tail, reason: reason || undefined } })),
    onSuccess: act.onSuccess,
    onError: (e) => {
      setWrong(e.message);
      field.current?.select(); // what is typed next takes its place
    },
  });
  const [wrong, setWrong] = useState("");
  useDraft(tail !== "" || reason !== "");
  const queries = useQueryClient();
  const test = useMutation({
    mutationFn: () => got(client.POST("/acceptances", { params: once(), body: { drive: w.new!.key } })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["swaps", w.id] }),
    onError: (e) => tell(e.message, true),
  });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        confirm.mutate();
      }}
      className="space-y-4"
    >
      {against.length > 0 && <Checks checks={against} />}
      {untested && w.new && (
        <button type="button" className="button" disabled={test.isPending} onClick={() => test.mutate()}>
          Test it first, for some minutes
        </button>
      )}
      {stops && (
        <p>
          <Link to="/stock" className="underline underline-offset-2">
            How its test stands, and longer tests
          </Link>
        </p>
      )}
      {!stops && against.length > 0 && (
        <label className="block space-y-1">
          <span className="font-semibold">A check warns. Why do you go on?</span>
          <input className="field" required value={reason} onChange={(e) => setReason(e.target.value)} />
        </label>
      )}
      <div className="flex flex-wrap items-end gap-3">
        <label className="block space-y-1">
          <span className="block font-semibold">Label tail of the drive you put in</span>
          <input
            ref={field}
            className="field tail max-w-60 text-2xl uppercase"
            autoComplete="off"
            autoCapitalize="characters"
            spellCheck={false}
            required
            value={tail}
            aria-invalid={wrong !== ""}
            aria-describedby={wrong ? "wrong-tail" : undefined}
            onChange={(e) => {
              setTail(e.target.value);
              setWrong("");
            }}
          />
        </label>
        {wrong && (
          <p id="wrong-tail" role="alert" className="order-last w-full border-l-4 border-l-replace pl-3 font-semibold">
            {wrong}
          </p>
        )}
        <button className="button main text-lg" disabled={stops || confirm.isPending}>
          {stops ? "A check stops this" : "Confirm and make it a member"}
        </button>
      </div>
      {passed.length > 0 && (
        <details>
          <summary className="min-h-8 cursor-pointer text-soft">
            {passed.length} {passed.length === 1 ? "check of it passes" : "checks of it pass"}
          </summary>
          <Checks checks={passed} />
        </details>
      )}
    </form>
  );
}

/** LabHands stands for hands in the demo: with real hosts there is nothing here. */
function LabHands({ swap: w }: { swap: Swap }) {
  const tell = useTell();
  const into = w.into ?? w.old.bay ?? w.host;
  // Where no map shows the bays, hands go by the label, and put the next one where that one was.
  const from = w.old.bay ?? w.old.tail;
  const pull = (bay: string) => got(client.POST("/lab/pull", { body: { bay } }));
  const insert = (bay: string, drive?: string) =>
    got(client.POST("/lab/insert", { body: { bay, drive, like: drive ? undefined : w.old.tail } }));
  const power = async (on: boolean) => void (await client.POST("/lab/power", { body: { host: w.host, on } }));
  const hands: Record<string, { says: string; do: () => Promise<string> } | undefined> = {
    pull: !w.hold
      ? {
          says: w.old.bay ? `pull the drive in ${from}` : `pull ${from}`,
          do: async () => {
            const m = await pull(from);
            return `${m.tail} is out of ${m.bay}.`;
          },
        }
      : undefined,
    insert: {
      says: w.refused ? "take that one out and put in one that fits" : `put a drive that fits into ${into}`,
      do: async () => {
        if (w.refused) await pull(w.refused_tail ?? into);
        const m = await insert(into);
        return `${m.tail} is in ${m.bay}. That is what its label says.`;
      },
    },
    down: {
      says: `shut ${w.host} down`,
      do: async () => {
        await power(false);
        return `${w.host} has no power.`;
      },
    },
    change: w.old.bay
      ? {
          says: `change the drive in ${w.old.bay} and bring ${w.host} up`,
          do: async () => {
            if (!w.old_gone) await pull(w.old.bay!);
            const m = await insert(w.old.bay!);
            await power(true);
            return `${m.tail} is in ${m.bay}, and ${w.host} starts. That is what its label says.`;
          },
        }
      : undefined,
    rehouse:
      w.old.bay && w.new?.bay && !w.hold
        ? {
            says: `move ${w.new.tail} to ${w.old.bay}`,
            do: async () => {
              await pull(w.new!.bay!);
              await insert(w.old.bay!, w.new!.tail);
              await power(true);
              return `${w.new!.tail} is in ${w.old.bay}.`;
            },
          }
        : undefined,
  };
  const hand = hands[w.phase];
  const act = useMutation({
    mutationFn: () => hand!.do(),
    onSuccess: (says) => tell(says),
    onError: (e: Error) => tell(e.message, true),
  });
  if (!hand) return null;
  return (
    <button
      className="button small max-w-full text-left whitespace-normal"
      disabled={act.isPending}
      onClick={() => act.mutate()}
    >
      Lab hand: {hand.says}
    </button>
  );
}

function LightButton({ swap: w, bay }: { swap: Swap; bay: string }) {
  const tell = useTell();
  const queries = useQueryClient();
  const light = useMutation({
    mutationFn: () => got(client.POST("/lights", { params: once(), body: { bay, seconds: 900 } })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["swaps"] }),
    onError: (e) => tell(e.message, true),
  });
  const lit = w.light?.state === "lit" || w.light?.state === "asked";
  if (lit)
    return (
      <p className="flex items-center gap-2">
        <span className="lit size-3 rounded-full bg-lamp ring-2 ring-lamp" />
        {w.light!.state === "lit" ? "lit" : "asked to be lit"} until {exact(new Date(w.light!.until)).slice(11, 16)}
      </p>
    );
  if (!w.open) return null;
  return (
    <button className="button w-full" disabled={light.isPending} onClick={() => light.mutate()}>
      Light the bay for 15 min
    </button>
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
        <Dialog.Content
          className={
            "sheet fixed left-1/2 top-1/4 z-50 " + "w-[min(30rem,calc(100vw-2rem))] -translate-x-1/2 space-y-4 p-5"
          }
        >
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
  const fate = useMutation({
    mutationFn: (x: keyof typeof fates) =>
      got(client.POST("/swaps/{id}/fate", { params: params(w), body: { fate: x } })),
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
            <span className="mt-2 flex flex-wrap gap-2">
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
