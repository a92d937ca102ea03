import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState, useSyncExternalStore } from "react";
import { useMe, useNow } from "../api/live";
import { lookAt, pastAt, watchPast } from "../api/past";
import { exact } from "./format";

export const usePast = () => useSyncExternalStore(watchPast, pastAt);

const minute = 60_000;

/** steps are the lengths of time of the buttons. */
const steps: [string, number][] = [
  ["1 day earlier", -24 * 60 * minute],
  ["1 h earlier", -60 * minute],
  ["10 min earlier", -10 * minute],
  ["10 min later", 10 * minute],
  ["1 h later", 60 * minute],
  ["1 day later", 24 * 60 * minute],
];

/** local is a moment in the form of a field for date and time. */
const local = (d: Date) => new Date(d.getTime() - d.getTimezoneOffset() * minute).toISOString().slice(0, 16);

/** Earlier opens the time line. */
export function Earlier({ open, toggle }: { open: boolean; toggle: () => void }) {
  const since = useMe().data?.past_since;
  if (!since) return null;
  return (
    <button
      className="button small px-3"
      aria-expanded={open}
      title="What was known earlier"
      onClick={toggle}
      aria-label="Earlier: show what was known at another time"
    >
      Earlier
    </button>
  );
}

/** PastBar says on every page that an earlier state is shown. */
export function PastBar({ toNow }: { toNow: () => void }) {
  const at = usePast();
  if (!at) return null;
  return (
    <p
      role="status"
      className="barred flex flex-wrap items-center justify-center gap-x-5 gap-y-2 border-y-4 border-edge px-4 py-3 text-lg font-semibold"
    >
      <span className="bg-ground px-2">As it was known at {exact(new Date(at))}. Nothing can be changed here.</span>
      <button className="button main" onClick={toNow}>
        Back to now
      </button>
    </p>
  );
}

/** useLook gives the function that shows another moment, or the present if it is empty. */
export function useLook() {
  const queries = useQueryClient();
  return (moment: string) => {
    lookAt(moment);
    // Everything is loaded again, so that data of two moments is never mixed.
    void queries.resetQueries({ predicate: (q) => !["me", "lab"].includes(String(q.queryKey[0])) });
  };
}

/** TimeLine chooses the moment that is shown. */
export function TimeLine({ close }: { close: () => void }) {
  const me = useMe().data;
  const at = usePast();
  const now = useNow();
  const look = useLook();
  const first = Date.parse(me?.past_since ?? "");
  const last = at ? Math.max(Date.parse(me?.now ?? at), Date.parse(at)) : now.getTime();
  const [draft, setDraft] = useState<number | null>(null);
  const shown = draft ?? (at ? Date.parse(at) : last);
  useEffect(() => {
    if (draft === null) return;
    const t = setTimeout(() => {
      look(new Date(draft).toISOString());
      setDraft(null);
    }, 400);
    return () => clearTimeout(t);
  });
  if (!me?.past_since) return null;
  const go = (t: number) => setDraft(Math.round(Math.min(Math.max(t, first), last)));
  return (
    <section
      aria-label="Time line"
      className="no-print sticky bottom-20 z-30 sm:bottom-12 mx-auto max-w-6xl space-y-2 border-t-2 border-edge bg-sheet px-4 py-3"
    >
      <div className="flex flex-wrap items-center gap-2">
        <label className="flex items-center gap-2">
          <span className="font-semibold">What was known at</span>
          <input
            type="datetime-local"
            className="field num w-auto"
            value={local(new Date(shown))}
            min={local(new Date(first))}
            max={local(new Date(last))}
            onChange={(e) => e.target.value && go(new Date(e.target.value).getTime())}
          />
        </label>
        {steps.map(([name, by]) => (
          <button
            key={name}
            className="button small"
            disabled={by < 0 ? shown <= first : shown >= last}
            onClick={() => go(shown + by)}
          >
            {name}
          </button>
        ))}
        <button
          className="button small ml-auto"
          onClick={() => {
            look("");
            close();
          }}
        >
          Now
        </button>
      </div>
      <input
        type="range"
        className="w-full"
        aria-label="Moment"
        aria-valuetext={exact(new Date(shown))}
        min={first}
        max={last}
        step={minute}
        value={shown}
        onChange={(e) => go(Number(e.target.value))}
      />
      <p className="flex justify-between text-sm text-soft">
        <span>kept from {exact(new Date(first))} on</span>
        <span className="hidden sm:inline">
          the same on the command line: <code>lantern --at "{exact(new Date(shown)).slice(0, 16)}" round</code>
        </span>
      </p>
    </section>
  );
}
