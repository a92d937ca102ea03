import { Tooltip } from "radix-ui";
import { type ReactNode } from "react";
import { useMe, useNow } from "../api/live";
import { To } from "./to";
import type { Verdict } from "../api/client";
import { exact, span } from "./format";

const hue: Record<Verdict, string> = {
  sound: "text-faint",
  watch: "text-watch",
  replace: "text-replace",
  dead: "text-dead",
  unknown: "text-soft",
};

/** Shape is the mark of a verdict; marks differ without colour. */
export function Shape({ verdict, size = 18 }: { verdict: Verdict; size?: number }) {
  return (
    <svg viewBox="0 0 20 20" width={size} height={size} aria-hidden className={`inline-block shrink-0 ${hue[verdict]}`}>
      {verdict === "sound" && <circle cx="10" cy="10" r="3" fill="currentColor" />}
      {verdict === "watch" && (
        <>
          <circle cx="10" cy="10" r="7" fill="none" stroke="currentColor" strokeWidth="2" />
          <circle cx="10" cy="10" r="2" fill="currentColor" />
        </>
      )}
      {verdict === "replace" && <path d="M10 1 19 10 10 19 1 10z" fill="currentColor" />}
      {verdict === "dead" && (
        <path d="M2.500 2.500h15v15h-15zM2.500 17.500l15-15" fill="none" stroke="currentColor" strokeWidth="2.600" />
      )}
      {verdict === "unknown" && (
        <circle
          cx="10"
          cy="10"
          r="7"
          fill="none"
          stroke="currentColor"
          strokeWidth="2.600"
          strokeDasharray="0.100 5.390"
          strokeLinecap="round"
        />
      )}
    </svg>
  );
}

export function Mark({ verdict, size }: { verdict: Verdict; size?: number }) {
  return (
    <span className={`inline-flex items-center gap-1.5 font-semibold ${hue[verdict]}`}>
      <Shape verdict={verdict} size={size} />
      {verdict}
    </span>
  );
}

/** Hint shows a text on hover and on focus. */
export function Hint({ text, children }: { text: ReactNode; children: ReactNode }) {
  return (
    <Tooltip.Root delayDuration={200}>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={5}
          collisionPadding={12}
          className="z-50 max-w-sm rounded-md border border-edge bg-raised px-3 py-2 text-sm text-ink"
        >
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

/** Ago is a relative time, with the exact one on focus. */
export function Ago({ at }: { at?: string }) {
  const now = useNow();
  if (!at || at.startsWith("0001")) return <span>never</span>;
  const d = new Date(at);
  return (
    <Hint text={exact(d)}>
      <time dateTime={at} tabIndex={0} className="num whitespace-nowrap">
        {span(now.getTime() - d.getTime())} ago
      </time>
    </Hint>
  );
}

/** Lasting is a duration until now: "for 8 days", with the exact beginning on focus. */
export function Lasting({ since }: { since?: string }) {
  const now = useNow();
  if (!since) return null;
  const d = new Date(since);
  return (
    <Hint text={`since ${exact(d)}`}>
      <time dateTime={since} tabIndex={0} className="num whitespace-nowrap">
        for {span(now.getTime() - d.getTime())}
      </time>
    </Hint>
  );
}

export function Tail({ tail, site, to, size = "" }: { tail: string; site?: string; to?: string; size?: string }) {
  const text = <span className={`tail ${size}`}>{tail}</span>;
  return to ? (
    <To site={site} to={to}>
      {text}
    </To>
  ) : (
    text
  );
}

/** Spark is a line chart of the size of a word. */
export function Spark({ values, label }: { values: number[]; label: string }) {
  if (values.length < 2) return null;
  const lo = Math.min(...values);
  const hi = Math.max(...values);
  const x = (i: number) => (i / (values.length - 1)) * 98 + 1;
  const y = (v: number) => (hi > lo ? 22 - ((v - lo) / (hi - lo)) * 20 : 22);
  const path = values.map((v, i) => `${i ? "L" : "M"}${x(i).toFixed(1)} ${y(v).toFixed(1)}`).join("");
  return (
    <svg viewBox="0 0 104 26" width="104" height="26" role="img" aria-label={label} className="shrink-0">
      <path d={path} fill="none" stroke="currentColor" strokeWidth="2" />
      <circle cx={x(values.length - 1)} cy={y(values.at(-1) ?? lo)} r="3" fill="currentColor" />
    </svg>
  );
}

/** Seam is the progress of something as a bar, always with words beside it. */
export function Seam({ share, label }: { share: number; label: string }) {
  return (
    <div
      role="progressbar"
      aria-label={label}
      aria-valuemin={0}
      aria-valuemax={100}
      aria-valuenow={Math.round(share * 100)}
      className="relative h-4 w-full overflow-hidden rounded-sm border border-edge"
    >
      <div className="absolute inset-y-0 left-0 bg-raised" style={{ width: `${share * 100}%` }} />
      <div className="absolute inset-y-0 w-1 bg-seam" style={{ left: `calc(${share * 100}% - 2px)` }} />
    </div>
  );
}

export function Title({ children, aside }: { children: ReactNode; aside?: ReactNode }) {
  return (
    <header className="mb-5 flex flex-wrap items-end justify-between gap-x-6 gap-y-2">
      <h1>{children}</h1>
      {aside && <div className="text-soft">{aside}</div>}
    </header>
  );
}

/** Waiting keeps the layout while something loads. */
export const Waiting = ({ rows = 4 }: { rows?: number }) => (
  <div role="status" aria-label="loading" className="space-y-3">
    <h1 className="sr-only">Loading</h1>
    {Array.from({ length: rows }, (_, i) => (
      <div key={i} className="h-16 rounded-lg bg-sheet" />
    ))}
  </div>
);

export const Empty = ({ children }: { children: ReactNode }) => (
  <p className="sheet px-6 py-10 text-center text-soft">{children}</p>
);

/** Failed says what failed, what it means, and what to do. */
export const Failed = ({ what, error, again }: { what: string; error: Error; again?: () => void }) => (
  <div role="alert" className="sheet space-y-3 border-replace p-5">
    <h1 className="text-xl!">{what} could not be shown.</h1>
    <p>{error.message}</p>
    {again && (
      <button className="button small" onClick={again}>
        Try again
      </button>
    )}
  </div>
);

/** NotReal marks printed pages of a lab; with real hosts it is empty. */
export function NotReal() {
  const me = useMe();
  if (!me.data?.lab) return null;
  return (
    <b className="text-ink">
      {" "}
      · {me.data.practice ? `rehearsal on a copy of ${me.data.practice.pool}` : "rehearsal in a lab"}: nothing here is
      real
    </b>
  );
}
