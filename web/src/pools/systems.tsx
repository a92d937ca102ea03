import type { S } from "../api/client";

/** some lists a few names, and the number of further ones. */
const some = (names: string[], all: number) =>
  names.join(", ") + (all > names.length ? ` and ${all - names.length} more` : "");

/** Systems lists the pool systems, with the actions that each supports. */
export function Systems({ systems }: { systems: S["PoolSystem"][] }) {
  return (
    <details className="sheet mt-6 p-4">
      <summary className="min-h-8 cursor-pointer font-semibold">Pool systems, and their orders</summary>
      <div className="mt-2 overflow-x-auto">
        <table className="plain">
          <thead>
            <tr>
              <th>system</th>
              <th>pools</th>
              <th>hosts</th>
              <th>orders</th>
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
                    <span className="text-soft">none: watch only, its swaps have steps by hand</span>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="mt-2 text-soft">
        Add other kinds with a program of your own: start the agent with --pools, and test the program first with
        lantern driver check.
      </p>
    </details>
  );
}
