import type { S } from "../api/client";

type System = { kind: string; pools: S["Pool"][]; offers: string[] };

/** systemsOf are the pool systems of which pools were reported, with what can be asked of all pools of each. */
export function systemsOf(pools: S["Pool"][]): System[] {
  const of = new Map<string, S["Pool"][]>();
  for (const p of pools) of.set(p.kind, [...(of.get(p.kind) ?? []), p]);
  return [...of.entries()]
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([kind, all]) => ({
      kind,
      pools: all,
      offers: (all[0]?.offers ?? []).filter((o) => all.every((p) => (p.offers ?? []).includes(o))),
    }));
}

/** Systems tells which pool systems there are, and what can be asked of each. */
export function Systems({ pools }: { pools: S["Pool"][] }) {
  return (
    <details className="sheet mt-6 p-4">
      <summary className="min-h-8 cursor-pointer font-semibold">Pool systems, and what can be asked of them</summary>
      <div className="mt-2 overflow-x-auto">
        <table className="plain">
          <thead>
            <tr>
              <th>system</th>
              <th>pools</th>
              <th>hosts</th>
              <th>can be asked to</th>
            </tr>
          </thead>
          <tbody>
            {systemsOf(pools).map((s) => (
              <tr key={s.kind}>
                <td className="font-semibold">{s.kind}</td>
                <td>{s.pools.map((p) => p.name).join(", ")}</td>
                <td>{[...new Set(s.pools.flatMap((p) => p.hosts))].sort().join(", ")}</td>
                <td>
                  {s.offers.join(", ") || (
                    <span className="text-soft">nothing: it is watched, and its swaps have steps by hand</span>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="mt-2 text-soft">
        Programs of your own can speak for further kinds: start the agent with --pools, and try the program first with
        lantern driver check.
      </p>
    </details>
  );
}
