import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useMe } from "../api/live";
import { Place } from "../bays/drawing";
import { exact } from "../parts/format";
import { Ago, Failed, Waiting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { Standing } from "../recoveries/standing";

type Swap = S["Swap"];

export default function SwapPage() {
  const { id = "" } = useParams();
  const swap = useQuery({ queryKey: ["swaps", id], queryFn: () => got(client.GET("/swaps/{id}", { params: { path: { id } } })) });
  if (swap.error) return <Failed what="The swap" error={swap.error} again={() => void swap.refetch()} />;
  if (!swap.data) return <Waiting />;
  const w = swap.data;
  const now = w.steps.find((s) => s.state === "now");
  const past = w.steps.filter((s) => s.state === "past");
  const next = w.steps.filter((s) => s.state === "next");
  return (
    <div className="grid items-start gap-6 lg:grid-cols-[1fr_18rem]">
      <div className="min-w-0 space-y-4">
        <header className="flex items-center gap-4">
          {w.old.bay && <span className="lg:hidden"><Place bay={w.old.bay} tone="text-replace" width={84} /></span>}
          <div>
          {w.old.bay && <p className="text-lg font-semibold lg:hidden">{w.old.bay}</p>}
          <p className="text-soft">Swap in <Link to={`/pools/${w.pool}`} className="underline underline-offset-2">{w.pool}</Link>, slot {w.slot} · led by {w.lead}</p>
          <h1>Replace <span className="tail">{w.old.tail}</span>{w.new?.tail && <> by <span className="tail">{w.new.tail}</span></>}</h1>
          </div>
        </header>
        {w.wrong?.map((x) => (
          <div key={x.tail} role="alert" className="rounded-lg border-4 border-replace bg-replace-sheet p-5">
            <p className="text-3xl font-semibold">Stop. Put <span className="tail">{x.tail}</span> back.</p>
            <p className="mt-2 flex items-center gap-4 text-xl">{x.bay && <Place bay={x.bay} tone="text-replace" width={120} />}{x.says}</p>
            <p className="mt-2">Nothing goes on until it is back. It left <Ago at={x.at} />.</p>
          </div>
        ))}
        {past.length > 0 && (
          <details className="px-1 text-soft"><summary className="min-h-8 cursor-pointer">{past.length} {past.length === 1 ? "step is" : "steps are"} done: {past[past.length - 1].title}</summary>
            <ol className="mt-1 list-inside list-decimal space-y-1">{past.map((s) => <li key={s.phase}>{s.title}</li>)}</ol>
          </details>
        )}
        {now && !w.wrong?.length && <StepNow swap={w} step={now} />}
        {!w.open && <Ended swap={w} />}
        {next[0] && w.open && (
          <div className="rounded-lg border border-dashed border-line px-5 py-3 text-soft"><span className="text-sm">next</span><p className="font-semibold">{next[0].title}</p></div>
        )}
        <Log swap={w} />
      </div>
      <aside aria-label="Where" className="sheet space-y-3 p-4 lg:sticky lg:top-4">
        {w.old.bay ? (<><Place bay={w.old.bay} tone="text-replace" width={220} /><p className="text-xl font-semibold">{w.old.bay}</p></>) : <p>No bay is known on {w.host}: compare the label.</p>}
        <Link className="button w-full" to={`/swaps/${w.id}/card`}>Pull card</Link>
        <dl className="space-y-2">
          <div><dt className="text-sm text-soft">out{w.old_gone && ", gone"}</dt><dd><Link to={`/drives/${w.old.key}`} className="tail text-2xl">{w.old.tail}</Link><br /><span className="text-sm text-soft">{w.old.model}</span></dd></div>
          {w.phase === "confirm" && <div><dt className="text-sm text-soft">in</dt><dd>read its label</dd></div>}
          {w.new?.tail && <div><dt className="text-sm text-soft">in</dt><dd><Link to={`/drives/${w.new.key}`} className="tail text-2xl">{w.new.tail}</Link><br /><span className="text-sm text-soft">{w.new.model}</span></dd></div>}
        </dl>
        {w.old.bay && <LightButton swap={w} />}
        {w.open && <Abandon swap={w} />}
      </aside>
    </div>
  );
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

function StepNow({ swap: w, step }: { swap: Swap; step: S["Step"] }) {
  const me = useMe();
  const hands = step.kind === "hands";
  return (
    <section aria-label="This step" className="sheet border-l-[6px] border-l-accent p-5">
      <p className="text-sm text-soft">{({ check: "look", hands: "your hands", confirm: "confirm", do: "the host", wait: "wait" } as Record<string, string>)[step.kind]}</p>
      <h2 className="text-2xl!">{step.title}</h2>
      <p className="mt-2 text-lg">{step.what}</p>
      <p className="mt-2 text-soft">{step.why}</p>
      {w.refused && <div role="alert" className="mt-4 rounded-md border-2 border-replace bg-replace-sheet p-4"><b>{w.refused_tail ? `${w.refused_tail} was refused` : "The host did not do it"}:</b> {w.refused}.</div>}
      <div className="mt-4">
        {w.phase === "planned" && <Begin swap={w} />}
        {w.phase === "confirm" && <ConfirmTail swap={w} />}
        {(w.phase === "recover" || w.phase === "verify") && w.recovery && <Standing recovery={w.recovery} height={170} />}
        {w.phase === "verify" && w.closing && <Checks checks={w.closing} />}
        {hands && me.data?.lab && w.old.bay && <LabHands bay={w.old.bay} what={w.phase === "pull" ? "pull" : "insert"} refused={!!w.refused_tail} />}
      </div>
      <p className="mt-4 border-t border-line pt-3 text-sm text-soft">You should see: {step.expect}</p>
    </section>
  );
}

const marks = { passes: ["✓", "text-fine", "passes"], warns: ["!", "text-watch", "warns"], stops: ["✗", "text-replace", "stops"] } as const;

function Checks({ checks }: { checks: S["Check"][] }) {
  // What stops or warns comes first: it is what must be read.
  const order = { stops: 0, warns: 1, passes: 2 };
  return (
    <ul className="divide-y divide-line">
      {[...checks].sort((a, b) => order[a.result] - order[b.result]).map((c) => {
        const [sign, ink, word] = marks[c.result];
        return (
          <li key={c.id} className="grid grid-cols-[1.500rem_1fr] gap-x-2 py-2.5">
            <span className={`text-lg font-bold leading-tight ${ink}`} aria-hidden>{sign}</span>
            <div>
              <p><b>{c.title}</b> <span className={`text-sm ${ink}`}>{word}</span>: {c.found}.{c.do && <b> {c.do}</b>}</p>
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
  const begin = useMutation({ mutationFn: () => got(client.POST("/swaps/{id}/begin", { params: params(w), body: { reason } })), ...useAct() });
  const stops = w.checks.some((c) => c.result === "stops");
  const warns = w.checks.some((c) => c.result === "warns");
  return (
    <form onSubmit={(e) => { e.preventDefault(); begin.mutate(); }} className="space-y-4">
      <Checks checks={w.checks} />
      {warns && !stops && (
        <label className="block space-y-1"><span className="font-semibold">A check warns. Why do you go on?</span><input className="field" required value={reason} onChange={(e) => setReason(e.target.value)} /></label>
      )}
      <button className="button main w-full text-lg sm:w-auto" disabled={stops || begin.isPending}>{stops ? "A check stops this swap" : "Begin the swap"}</button>
    </form>
  );
}

function ConfirmTail({ swap: w }: { swap: Swap }) {
  const [tail, setTail] = useState("");
  const field = useRef<HTMLInputElement>(null);
  const act = useAct();
  const confirm = useMutation({
    mutationFn: () => got(client.POST("/swaps/{id}/confirm", { params: params(w), body: { tail } })),
    onSuccess: act.onSuccess,
    onError: (e) => {
      act.onError(e);
      field.current?.select(); // what is typed next takes its place
    },
  });
  return (
    <form onSubmit={(e) => { e.preventDefault(); confirm.mutate(); }} className="flex flex-wrap items-end gap-3">
      <label className="block space-y-1"><span className="block font-semibold">Label tail of the drive you put in</span>
        <input ref={field} className="field tail max-w-60 text-2xl uppercase" autoComplete="off" autoCapitalize="characters" spellCheck={false} required value={tail} onChange={(e) => setTail(e.target.value)} /></label>
      <button className="button main text-lg" disabled={confirm.isPending}>Confirm and make it a member</button>
    </form>
  );
}

/** LabHands stands for hands in the demo: with real hosts there is nothing here. */
function LabHands({ bay, what, refused }: { bay: string; what: "pull" | "insert"; refused: boolean }) {
  const tell = useTell();
  const hand = useMutation({
    mutationFn: async () => {
      if (what === "insert" && refused) await got(client.POST("/lab/pull", { body: { bay } }));
      return got(client.POST(`/lab/${what}`, { body: { bay } }));
    },
    onSuccess: (m) => tell(what === "pull" ? `${m.tail} is out of ${m.bay}.` : `${m.tail} is in ${m.bay}. That is what its label says.`),
    onError: (e) => tell(e.message, true),
  });
  return <button className="button small" disabled={hand.isPending} onClick={() => hand.mutate()}>Lab hand: {what === "pull" ? `pull the drive in ${bay}` : refused ? `take that one out and put in one that fits` : `put a drive that fits into ${bay}`}</button>;
}

function LightButton({ swap: w }: { swap: Swap }) {
  const tell = useTell();
  const queries = useQueryClient();
  const light = useMutation({
    mutationFn: () => got(client.POST("/lights", { params: once(), body: { bay: w.old.bay!, seconds: 900 } })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["swaps"] }),
    onError: (e) => tell(e.message, true),
  });
  const lit = w.light?.state === "lit" || w.light?.state === "asked";
  if (lit) return <p className="flex items-center gap-2"><span className="lit size-3 rounded-full bg-lamp ring-2 ring-lamp" />{w.light!.state === "lit" ? "lit" : "asked to be lit"} until {exact(new Date(w.light!.until)).slice(11, 16)}</p>;
  if (!w.open) return null;
  return <button className="button w-full" disabled={light.isPending} onClick={() => light.mutate()}>Light the bay for 15 min</button>;
}

function Abandon({ swap: w }: { swap: Swap }) {
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState("");
  const act = useAct();
  const abandon = useMutation({ mutationFn: () => got(client.POST("/swaps/{id}/abandon", { params: params(w), body: { reason } })), ...act, onSuccess: (x: Swap) => { setOpen(false); act.onSuccess(x); } });
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button small w-full border-line text-soft">Abandon this swap</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ground opacity-80" />
        <Dialog.Content className="sheet fixed left-1/2 top-1/4 z-50 w-[min(30rem,calc(100vw-2rem))] -translate-x-1/2 space-y-4 p-5">
          <Dialog.Title className="text-xl font-semibold">Abandon the swap of {w.old.tail}?</Dialog.Title>
          <Dialog.Description>{w.phase === "planned" ? "Nothing was touched yet." : "What was done so far stays done; the record will say in what state the pool is left and what is owed."}</Dialog.Description>
          <form onSubmit={(e) => { e.preventDefault(); abandon.mutate(); }} className="space-y-4">
            <label className="block space-y-1"><span className="font-semibold">Why?</span><input className="field" required value={reason} onChange={(e) => setReason(e.target.value)} /></label>
            <span className="flex gap-3"><button className="button main">Abandon it</button><Dialog.Close className="button">Go on with it</Dialog.Close></span>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Ended({ swap: w }: { swap: Swap }) {
  return (
    <section className="sheet p-5">
      <h2 className="text-2xl!">{w.phase === "closed" ? "Closed, verified" : "Abandoned"}</h2>
      <p className="mt-1 text-lg">{w.log[w.log.length - 1]?.says}</p>
      {w.phase === "closed" && w.closing && <div className="mt-3"><Checks checks={w.closing} /></div>}
      {w.recovery && <div className="mt-4"><Standing recovery={w.recovery} height={150} /></div>}
    </section>
  );
}

function Log({ swap: w }: { swap: Swap }) {
  return (
    <section aria-labelledby="record" className="pt-2">
      <h2 id="record" className="mb-2 text-soft">Record</h2>
      <ol className="space-y-1.5">
        {[...w.log].reverse().map((e, i) => (
          <li key={i} className="grid gap-x-4 sm:grid-cols-[11rem_6rem_1fr]"><span className="num text-sm text-soft">{exact(new Date(e.at))}</span><span className="text-sm text-soft">{e.who}</span><span>{e.says}</span></li>
        ))}
      </ol>
    </section>
  );
}
