import type { S } from "../api/client";

/** some names all of a few, and says how many more there are. */
const some = (names: string[], all: number) =>
  names.join(", ") + (all > names.length ? ` and ${all - names.length} more` : "");

/** Systems tells which pool systems there are, and what can be asked of each. */
export function Systems({ systems }: { systems: S["PoolSystem"][] }) {
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
            {systems.map((s) => (
              <tr key={s.kind}>
                <td className="font-semibold">{s.kind}</td>
                <td>{some(s.names, s.pools)}</td>
                <td>{some(s.hosts, s.host_count)}</td>
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
