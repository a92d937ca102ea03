import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, once, type S } from "../api/client";
import { count, exact, number } from "../parts/format";
import { useTell } from "../parts/toast";

/** toChange has the properties of a plan that can be changed. */
export function toChange(p: S["Plan"]): S["PlanChange"] {
  return {
    covers: p.covers,
    tests: p.tests.map(({ kind, every, within_hours }) => ({ kind, every, within_hours })),
    zone: p.zone,
    windows: p.open.map((w) => w.text),
    barred: p.closed.map((w) => w.text),
    run_over: p.run_over,
    limits: p.limits,
    least_margin: p.least_margin,
    busy_percent: p.busy_percent,
    wake: p.wake,
  };
}

const covers = (p: S["PlanChange"]) =>
  p.covers.map((c) => (c.kind === "fleet" ? "all drives" : `${c.kind} ${c.name ?? ""}`)).join(", ");

/** Plans lists them; one can be opened and changed. */
export function Plans({
  plans,
  chosen,
  choose,
}: {
  plans: S["Plan"][];
  chosen: string;
  choose: (name: string) => void;
}) {
  const [open, setOpen] = useState<string | null>(null);
  const fleet = plans.find((p) => p.name === "fleet") ?? plans[0]!; // it is always there
  return (
    <section aria-labelledby="plans" className="mb-8">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-3">
        <h2 id="plans">Plans</h2>
        <button className="button small" onClick={() => setOpen(open === "" ? null : "")}>
          Make a plan
        </button>
      </div>
      <p className="mb-3 max-w-3xl text-soft">
        A drive follows its own plan; without one, its pool's, then its host's, then the fleet's.
      </p>
      {open === "" && (
        <div className="sheet mb-3">
          <Edit plan={{ ...fleet, name: "", covers: [] }} fresh done={() => setOpen(null)} />
        </div>
      )}
      <ul className="sheet divide-y divide-line">
        {plans.map((p) => (
          <li key={p.name}>
            <div className="grid items-center gap-x-4 gap-y-1 px-4 py-2.5 md:grid-cols-[11rem_1fr_auto]">
              <button className="text-left" aria-pressed={p.name === chosen} onClick={() => choose(p.name)}>
                <b>{p.name}</b>
                <span className="block text-sm text-soft">
                  {covers(p)}; {count(p.drives, "drive")}
                </span>
              </button>
              <span>{p.says}</span>
              <button
                className="button small"
                aria-expanded={open === p.name}
                onClick={() => setOpen(open === p.name ? null : p.name)}
              >
                {open === p.name ? "Close" : "Change"}
              </button>
            </div>
            {open === p.name && <Edit plan={p} done={() => setOpen(null)} />}
          </li>
        ))}
      </ul>
    </section>
  );
}

const lines = (s: string) =>
  s
    .split("\n")
    .map((l) => l.trim())
    .filter(Boolean);

function Edit({ plan: p, fresh, done }: { plan: S["Plan"]; fresh?: boolean; done: () => void }) {
  const [c, setC] = useState<S["PlanChange"]>(() => toChange(p));
  const [name, setName] = useState(p.name);
  const [windows, setWindows] = useState(c.windows.join("\n"));
  const [barred, setBarred] = useState(c.barred.join("\n"));
  const [scope, setScope] = useState({ kind: "pool" as "pool" | "host" | "drive", name: "" });
  const tell = useTell();
  const queries = useQueryClient();
  const whole = (): S["PlanChange"] => ({
    ...c,
    windows: lines(windows),
    barred: lines(barred),
    tests: c.tests.filter((t) => t.every.trim()),
    covers: fresh
      ? scope.name
          .split(",")
          .map((n) => ({ kind: scope.kind, name: n.trim() }))
          .filter((s) => s.name)
      : c.covers,
  });
  const again = () => {
    for (const k of ["plans", "calendar"]) void queries.invalidateQueries({ queryKey: [k] });
  };
  const look = useMutation({
    mutationFn: () => got(client.POST("/plans/preview", { body: { name, weeks: 5, change: whole() } })),
  });
  const keep = useMutation({
    mutationFn: () => got(client.PUT("/plans/{name}", { params: { path: { name }, ...once() }, body: whole() })),
    onSuccess: () => {
      tell(`The plan ${name} is kept.`);
      again();
      done();
    },
    onError: (e: Error) => tell(e.message, true),
  });
  const remove = useMutation({
    mutationFn: () => got(client.DELETE("/plans/{name}", { params: { path: { name }, ...once() } })),
    onSuccess: () => {
      tell(`The plan ${name} is gone.`);
      again();
      done();
    },
    onError: (e: Error) => tell(e.message, true),
  });
  const set = (part: Partial<S["PlanChange"]>) => {
    setC({ ...c, ...part });
    look.reset();
  };
  const every = (kind: "short" | "extended" | "conveyance") => c.tests.find((t) => t.kind === kind)?.every ?? "";
  const setEvery = (kind: "short" | "extended" | "conveyance", value: string) =>
    set({
      tests: [
        ...c.tests.filter((t) => t.kind !== kind),
        { kind, every: value, within_hours: c.tests.find((t) => t.kind === kind)?.within_hours },
      ],
    });
  const e = look.data?.effect;
  return (
    <form
      className="space-y-4 border-t border-line p-4"
      onSubmit={(ev) => {
        ev.preventDefault();
        look.mutate();
      }}
    >
      {fresh && (
        <div className="grid gap-3 sm:grid-cols-[12rem_8rem_1fr]">
          <label>
            Its name
            <input
              className="field mt-1"
              required
              placeholder="archive-nights"
              value={name}
              onChange={(ev) => setName(ev.target.value)}
            />
          </label>
          <label>
            It is for
            <select
              className="field mt-1"
              value={scope.kind}
              onChange={(ev) => setScope({ ...scope, kind: ev.target.value as typeof scope.kind })}
            >
              <option>pool</option>
              <option>host</option>
              <option>drive</option>
            </select>
          </label>
          <label>
            named
            <input
              className="field mt-1"
              required
              placeholder="soundscape, logbook"
              value={scope.name}
              onChange={(ev) => setScope({ ...scope, name: ev.target.value })}
            />
          </label>
        </div>
      )}
      <div className="grid gap-3 sm:grid-cols-3">
        {(["short", "extended", "conveyance"] as const).map((kind) => (
          <label key={kind}>
            {kind} tests come
            <input
              className="field mt-1"
              placeholder="never"
              value={every(kind)}
              onChange={(ev) => setEvery(kind, ev.target.value)}
            />
          </label>
        ))}
      </div>
      <p className="text-sm text-soft">
        Say <i>every Monday 02:00</i>, <i>every 2 weeks on Sunday 03:30</i>,{" "}
        <i>every month on the first Sunday 02:00</i>, or give an RRULE (RFC 5545). From one to the next is a period;
        every drive is tested once in each, spread over it.
      </p>
      <div className="grid gap-3 sm:grid-cols-[1fr_1fr_12rem]">
        <label>
          Tests run only within
          <textarea
            className="field mt-1 py-2"
            rows={3}
            placeholder="at any time"
            value={windows}
            onChange={(ev) => {
              setWindows(ev.target.value);
              look.reset();
            }}
          />
        </label>
        <label>
          and never within
          <textarea
            className="field mt-1 py-2"
            rows={3}
            placeholder={"daily 01:00-03:00\n2026-12-24 12:00 to 2026-12-27 08:00"}
            value={barred}
            onChange={(ev) => {
              setBarred(ev.target.value);
              look.reset();
            }}
          />
        </label>
        <label>
          Time zone
          <input className="field mt-1" value={c.zone} onChange={(ev) => set({ zone: ev.target.value })} />
        </label>
      </div>
      <fieldset className="grid grid-cols-2 gap-3 sm:grid-cols-6">
        <legend className="mb-1 text-sm text-soft">At once, at most; 0 is no limit</legend>
        {(["group", "pool", "enclosure", "host"] as const).map((k) => (
          <label key={k}>
            {k}
            <input
              className="field num mt-1"
              inputMode="numeric"
              value={c.limits[k]}
              onChange={(ev) => set({ limits: { ...c.limits, [k]: Number(ev.target.value) || 0 } })}
            />
          </label>
        ))}
        <label>
          least margin
          <input
            className="field num mt-1"
            inputMode="numeric"
            value={c.least_margin}
            onChange={(ev) => set({ least_margin: Number(ev.target.value) || 0 })}
          />
        </label>
        <label>
          busy, %
          <input
            className="field num mt-1"
            inputMode="decimal"
            value={number(c.busy_percent)}
            onChange={(ev) => set({ busy_percent: Number(ev.target.value) || 0 })}
          />
        </label>
      </fieldset>
      <div className="flex flex-wrap gap-x-6 gap-y-2">
        <label className="flex min-h-11 items-center gap-2">
          <input type="checkbox" checked={!!c.run_over} onChange={(ev) => set({ run_over: ev.target.checked })} />a test
          may overrun its window
        </label>
        <label className="flex min-h-11 items-center gap-2">
          <input type="checkbox" checked={!!c.wake} onChange={(ev) => set({ wake: ev.target.checked })} />
          sleeping drives are woken
        </label>
      </div>
      <div aria-live="polite">
        {look.error && <p className="font-semibold text-replace">{look.error.message}</p>}
        {look.data && !e && (
          <p>
            <b>No test would move.</b>
          </p>
        )}
        {e && (
          <p>
            <b>
              {e.moved} tests would move, {e.begun} would be new, {e.ended} would be removed.
            </b>{" "}
            {e.untested_then
              ? `${e.untested_then} would have no place (now ${e.untested_now}).`
              : "All tests have a place."}
          </p>
        )}
        {look.data?.crowds.map((k, i) => (
          <p key={i} className="text-soft">
            {k.says}
          </p>
        ))}
      </div>
      <div className="flex flex-wrap items-center gap-3">
        <button className="button" disabled={look.isPending}>
          {look.isPending ? "Working it out" : "Preview"}
        </button>
        <button
          type="button"
          className="button main"
          disabled={!look.data || keep.isPending}
          onClick={() => keep.mutate()}
        >
          Save
        </button>
        {!fresh && p.name !== "fleet" && (
          <button type="button" className="button" disabled={remove.isPending} onClick={() => remove.mutate()}>
            Remove it
          </button>
        )}
        {!fresh && (
          <span className="text-sm text-soft">
            written by {p.by}, {exact(new Date(p.made_at!))}
          </span>
        )}
      </div>
    </form>
  );
}
