import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, once, type S } from "../api/client";
import { useTell } from "../parts/toast";

type Sec = {
  name: string;
  rows: number;
  columns: number;
  first: string;
  run: string;
  upright: boolean;
  gaps: number[][];
};
const fresh: Sec = { name: "front", rows: 4, columns: 6, first: "top-left", run: "rows", upright: false, gaps: [] };

/** numberAt is the number of each place, counted like in the service: gaps have no number. */
function numbers(s: Sec): Map<string, number> {
  const out = new Map<string, number>();
  let n = 0;
  for (let i = 0; i < s.rows * s.columns; i++) {
    let [r, c] =
      s.run === "columns" ? [i % s.rows, Math.floor(i / s.rows)] : [Math.floor(i / s.columns), i % s.columns];
    if (s.first.startsWith("bottom")) r = s.rows - 1 - r;
    if (s.first.endsWith("right")) c = s.columns - 1 - c;
    if (!s.gaps.some(([gr, gc]) => gr === r + 1 && gc === c + 1)) out.set(`${r + 1},${c + 1}`, ++n);
  }
  return out;
}

/**
 * Describe draws an enclosure that does not describe itself: a grid with the numbers of its bays. A tap makes a place
 * a gap.
 */
export function Describe({ host, is, done }: { host: string; is?: S["Layout"]; done: () => void }) {
  const [name, setName] = useState(is?.name ?? "chassis");
  const [all, setAll] = useState<Sec[]>(is?.sections.map((x) => ({ ...fresh, ...x })) ?? [fresh]);
  const [which, setWhich] = useState(0);
  const s = all[which] ?? fresh;
  const set = (sec: Sec) => setAll(all.map((was, i) => (i === which ? sec : was)));
  const tell = useTell();
  const queries = useQueryClient();
  const keep = useMutation({
    mutationFn: () =>
      got(
        client.PUT("/hosts/{host}/layouts/{name}", {
          params: { path: { host, name }, ...once() },
          body: { name, sections: all as S["LayoutSection"][] },
        }),
      ),
    onSuccess: () => {
      tell(`${name} of ${host} is described.`);
      for (const key of ["bays", "hosts"]) void queries.invalidateQueries({ queryKey: [key] });
      done();
    },
    onError: (e: Error) => tell(e.message, true),
  });
  const at = numbers(s);
  const [typed, setTyped] = useState({ rows: String(s.rows), columns: String(s.columns) });
  const turn = (i: number, list: Sec[]) => {
    setWhich(i);
    setTyped({ rows: String(list[i]?.rows), columns: String(list[i]?.columns) });
  };
  const another = () => {
    const name =
      ["front", "rear", "inner"].find((n) => !all.some((x) => x.name === n)) ??
      `section ${all.length + 1}`.replace(" ", "-");
    const list = [...all, { ...s, name }];
    setAll(list);
    turn(list.length - 1, list);
  };
  const without = () => {
    const list = all.filter((_, i) => i !== which);
    setAll(list);
    turn(0, list);
  };
  const type = (what: "rows" | "columns", v: string) => {
    setTyped({ ...typed, [what]: v });
    const n = Number(v);
    if (Number.isInteger(n) && n >= 1 && n <= 60) set({ ...s, [what]: n, gaps: [] });
  };
  return (
    <form
      className="sheet space-y-4 p-4"
      onSubmit={(e) => {
        e.preventDefault();
        keep.mutate();
      }}
    >
      <div role="group" aria-label="Sections" className="flex flex-wrap gap-1">
        {all.map((x, i) => (
          <button
            key={i}
            type="button"
            aria-pressed={i === which}
            className={`button small ${i === which ? "bg-raised" : "border-line text-soft"}`}
            onClick={() => turn(i, all)}
          >
            {x.name || "no name"} <span className="num text-soft">{numbers(x).size}</span>
          </button>
        ))}
        <button type="button" className="button small border-line text-soft" onClick={another}>
          Add a section
        </button>
        {all.length > 1 && (
          <button type="button" className="button small border-line text-soft" onClick={without}>
            Take {s.name || "this one"} away
          </button>
        )}
      </div>
      <p>
        As seen from where you stand: rows and columns, the corner of bay 1, and the direction of the numbers. Tap a
        place that has no bay.
      </p>
      <div className="grid grid-cols-2 gap-3 sm:grid-cols-4">
        <label>
          Enclosure
          <input className="field mt-1" value={name} disabled={!!is} onChange={(e) => setName(e.target.value)} />
        </label>
        <label>
          Section
          <input className="field mt-1" value={s.name} onChange={(e) => set({ ...s, name: e.target.value })} />
        </label>
        <label>
          Rows
          <input
            className="field num mt-1"
            inputMode="numeric"
            value={typed.rows}
            onChange={(e) => type("rows", e.target.value)}
          />
        </label>
        <label>
          Columns
          <input
            className="field num mt-1"
            inputMode="numeric"
            value={typed.columns}
            onChange={(e) => type("columns", e.target.value)}
          />
        </label>
        <label>
          Number one
          <select className="field mt-1" value={s.first} onChange={(e) => set({ ...s, first: e.target.value })}>
            {["top-left", "top-right", "bottom-left", "bottom-right"].map((c) => (
              <option key={c}>{c}</option>
            ))}
          </select>
        </label>
        <label>
          Numbers run
          <select className="field mt-1" value={s.run} onChange={(e) => set({ ...s, run: e.target.value })}>
            <option value="rows">along rows</option>
            <option value="columns">down columns</option>
          </select>
        </label>
        <label className="flex items-center gap-2 self-end pb-2">
          <input type="checkbox" checked={s.upright} onChange={(e) => set({ ...s, upright: e.target.checked })} />
          bays stand upright
        </label>
      </div>
      <div className="overflow-x-auto">
        <div
          className="grid gap-1 rounded-md border-2 border-edge p-1.5"
          style={{ gridTemplateColumns: `repeat(${s.columns}, minmax(2.2rem, 1fr))` }}
        >
          {Array.from({ length: s.rows * s.columns }, (_, i) => {
            const [r, c] = [Math.floor(i / s.columns) + 1, (i % s.columns) + 1];
            const n = at.get(`${r},${c}`);
            return (
              <button
                key={i}
                type="button"
                aria-label={n ? `bay ${n}, row ${r}, column ${c}` : `gap, row ${r}, column ${c}`}
                onClick={() =>
                  set({ ...s, gaps: n ? [...s.gaps, [r, c]] : s.gaps.filter(([gr, gc]) => gr !== r || gc !== c) })
                }
                className={[
                  "num rounded border text-sm",
                  s.upright ? "min-h-20" : "min-h-10",
                  n ? "border-edge" : "barred border-line",
                ].join(" ")}
              >
                {n ?? ""}
              </button>
            );
          })}
        </div>
      </div>
      <div className="flex flex-wrap gap-3">
        <button className="button main" disabled={keep.isPending}>
          Save
        </button>
        <button type="button" className="button" onClick={done}>
          Cancel
        </button>
      </div>
      <p className="text-sm text-soft">
        Names printed on the case, and numbers that follow no rule: lantern enclosure define {host} --file
      </p>
    </form>
  );
}
