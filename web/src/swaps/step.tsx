import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useMe } from "../api/live";
import { exact } from "../parts/format";
import { useDraft } from "../parts/draft";
import { ReadLabel } from "../parts/camera";
import { useTell } from "../parts/toast";
import { Standing } from "../recoveries/standing";
import { LabHands } from "./hands";

export type Swap = S["Swap"];

/** bayNow is the bay of the present step. */
export function bayNow(w: Swap): string | undefined {
  if ((w.phase === "insert" || w.phase === "confirm") && w.into) return w.new?.bay ?? w.into;
  return w.old.bay;
}

export function useAct() {
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

export const params = (w: Swap) => ({ path: { id: w.id }, header: { ...once().header, "If-Match": `"${w.version}"` } });

export const acts: Record<string, string> = {
  scrub: "Order the scrub",
  drain: "Order the drain",
  release: "Remove the place from the pool",
  refill: "Order that they are filled",
  still: "Nothing works on it any more",
  recover: "Nudge the pool",
  rehouse: "It stays where it is",
  join: "Order that it joins",
};

export function StepNow({ swap: w, step }: { swap: Swap; step: S["Step"] }) {
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
          <b>{w.refused_tail ? `${w.refused_tail} was refused` : w.phase === "insert" ? "Set aside" : "It failed"}:</b>{" "}
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
                <span className="font-semibold">Reason to continue anyway</span>
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
export function KeepSpare({ swap: w }: { swap: Swap }) {
  const act = useMutation({
    mutationFn: () => got(client.POST("/swaps", { params: once(), body: { drive: w.old.key, keep_spare: true } })),
    ...useAct(),
  });
  return (
    <p className="flex flex-wrap items-center gap-3">
      <span>The spare at {w.spare} takes its place. Is it reserved for something else?</span>
      <button className="button" disabled={act.isPending} onClick={() => act.mutate()}>
        Do not use the spare
      </button>
    </p>
  );
}

/** Died records a person's statement that the old drive, which vanished early, will not come back. */
export function Died({ swap: w, tail }: { swap: Swap; tail: string }) {
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

/** Word is a button for one action of the person who leads: next, back, resume. */
export function Word({
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

export function Begin({ swap: w }: { swap: Swap }) {
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
            {losing.join(", ")} will be lost. To confirm, type the name of the pool.
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
          <span className="font-semibold">A check warns. Give a reason to continue</span>
          <input className="field" required value={reason} onChange={(e) => setReason(e.target.value)} />
        </label>
      )}
      <button className="button main w-full text-lg sm:w-auto" disabled={stops || begin.isPending}>
        {stops ? "A check stops this swap" : "Begin the swap"}
      </button>
    </form>
  );
}

/** ConfirmTail asks for the label tail; failed checks of the new drive are above, passed ones are folded below. */
export function ConfirmTail({ swap: w }: { swap: Swap }) {
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
            Test progress, and longer tests
          </Link>
        </p>
      )}
      {!stops && against.length > 0 && (
        <label className="block space-y-1">
          <span className="font-semibold">A check warns. Give a reason to continue</span>
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
        <ReadLabel
          read={(text) => {
            setTail(text);
            setWrong("");
            field.current?.focus();
          }}
        />
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

export function LightButton({ swap: w, bay }: { swap: Swap; bay: string }) {
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
        {w.light!.state === "lit" ? "lit" : "light ordered"} until {exact(new Date(w.light!.until)).slice(11, 16)}
      </p>
    );
  if (!w.open) return null;
  return (
    <button className="button w-full" disabled={light.isPending} onClick={() => light.mutate()}>
      Light the bay for 15 min
    </button>
  );
}

export const marks = {
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
