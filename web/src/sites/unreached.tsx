import type { S } from "../api/client";
import { Shape } from "../parts/parts";

/** Unreached lists the sites that are not reachable, with the date of their data. */
export function Unreached({ sites }: { sites: S["Site"][] }) {
  if (sites.length === 0) return null;
  return (
    <ul className="mb-2.5 space-y-2.5" aria-label="Sites that are not reachable">
      {sites.map((x) => (
        <li key={x.name} className="sheet barred border-dashed border-edge p-4">
          <p className="flex items-start gap-2 text-lg">
            <span className="mt-1">
              <Shape verdict="unknown" />
            </span>
            <span>
              <span className="font-semibold">{x.name}</span>: {x.says}.
            </span>
          </p>
          {x.do && <p className="mt-1 pl-7">→ {x.do}.</p>}
        </li>
      ))}
    </ul>
  );
}
