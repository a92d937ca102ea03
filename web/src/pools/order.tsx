import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type S } from "../api/client";
import { decimal } from "../parts/format";

type Change = { slot: string; tail: string; does: "replace" | "remove" };

/** useOrderLine is the chosen change, with the same options of the command line. */
export function useOrderLine() {
  const [changes, setChanges] = useState<Change[]>([]);
  const [size, setSize] = useState("8");
  const [free, setFree] = useState(false);
  const options = changes.map((c) => (c.does === "remove" ? ` --remove ${c.slot}` : ` --replace ${c.slot}=${size}TB`));
  return { changes, setChanges, size, setSize, free, setFree, options: options.join("") + (free ? " --free-bay" : "") };
}

/** Order finds the best order in which to change drives of a spread group. It gives no orders to the pool. */
export function Order({ pool: p, state: s }: { pool: S["Pool"]; state: ReturnType<typeof useOrderLine> }) {
  const groups = p.groups.filter((g) => g.spread);
  const [group, setGroup] = useState(groups[0]?.name ?? "");
  const all = groups.find((g) => g.name === group)?.members ?? [];
  const bytes = Math.round(Number(s.size) * 1e12) || 0;
  const plan = useMutation({
    mutationFn: () =>
      got(
        client.POST("/pools/{pool}/moves", {
          params: { path: { pool: p.id ?? p.name } },
          body: {
            group,
            changes: s.changes.map((c) =>
              c.does === "remove" ? { out: c.slot } : { out: c.slot, in_bytes: bytes, after: !s.free },
            ),
          },
        }),
      ),
  });
  const change = (f: () => void) => {
    f();
    plan.reset();
  };
  const set = (slot: string, tail: string, does: string) =>
    change(() =>
      s.setChanges([
        ...s.changes.filter((c) => c.slot !== slot),
        ...(does === "" ? [] : [{ slot, tail, does: does as Change["does"] }]),
      ]),
    );
  const wants = s.changes.some((c) => c.does === "replace");
  return (
    <div className="space-y-3">
      {groups.length > 1 && (
        <label className="flex items-center gap-2 text-soft">
          group
          <select
            className="field w-auto"
            value={group}
            onChange={(e) =>
              change(() => {
                setGroup(e.target.value);
                s.setChanges([]);
              })
            }
          >
            {groups.map((g) => (
              <option key={g.name}>{g.name}</option>
            ))}
          </select>
        </label>
      )}
      <fieldset>
        <legend className="mb-1 text-sm text-soft">What becomes of each drive</legend>
        <span className="flex flex-wrap gap-x-4 gap-y-1">
          {all.map((m) => (
            <label key={m.slot} className="flex min-h-11 items-center gap-1.5">
              <span className="tail">{m.tail || m.slot}</span>
              <select
                className="field w-auto"
                aria-label={`What becomes of ${m.tail || m.slot}`}
                value={s.changes.find((c) => c.slot === m.slot)?.does ?? ""}
                onChange={(e) => set(m.slot, m.tail, e.target.value)}
              >
                <option value="">stays</option>
                <option value="replace">is replaced</option>
                <option value="remove">leaves</option>
              </select>
            </label>
          ))}
        </span>
      </fieldset>
      <p className="flex flex-wrap items-center gap-4">
        {wants && (
          <>
            <label className="flex items-center gap-2">
              New drives have
              <input
                className="field num w-24"
                inputMode="decimal"
                value={s.size}
                onChange={(e) => change(() => s.setSize(e.target.value))}
              />{" "}
              TB
            </label>
            <label className="flex min-h-11 items-center gap-2">
              <input type="checkbox" checked={s.free} onChange={(e) => change(() => s.setFree(e.target.checked))} />
              there is a free bay for each
            </label>
          </>
        )}
        <button
          className="button main"
          disabled={plan.isPending || s.changes.length === 0 || (wants && bytes <= 0)}
          onClick={() => plan.mutate()}
        >
          Find the best order: nothing is touched
        </button>
      </p>
      {plan.error && (
        <p role="alert" className="font-semibold">
          {plan.error.message}
        </p>
      )}
      {plan.data && <Found order={plan.data} />}
    </div>
  );
}

function Found({ order: o }: { order: S["MoveOrder"] }) {
  return (
    <div className="space-y-2" aria-live="polite">
      <ol className="space-y-1">
        {o.steps.map((st, i) => (
          <li key={i} className="grid gap-x-4 sm:grid-cols-[2rem_1fr_9rem_1fr]">
            <span className="num text-soft">{i + 1}</span>
            <b>{st.words}</b>
            <span className="num">moves {decimal(st.bytes)}</span>
            <span className="text-soft">meanwhile: {st.margin.words}</span>
          </li>
        ))}
      </ol>
      <p>
        <b className="num">{decimal(o.bytes)}</b> in all
        {!!o.as_asked_bytes && `; in the chosen order: ${decimal(o.as_asked_bytes)}`}.{" "}
        {o.proven ? "No other order moves less." : "The best of those that were tried."}
      </p>
      <p className="text-sm text-soft">{o.basis}</p>
    </div>
  );
}
