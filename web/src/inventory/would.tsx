import { type S } from "../api/client";
import { count } from "../parts/format";

/** Would shows the effects of a change of many drives, and its errors; without errors it can be written. */
export function Would({ said, busy, write }: { said: S["InventoryImported"]; busy: boolean; write: () => void }) {
  return (
    <>
      {said.refused.length > 0 && (
        <div role="alert">
          <p className="font-semibold">
            {said.refused.length} of {said.rows} rows cannot be imported, so nothing can be written:
          </p>
          <ul className="list-disc pl-5">
            {said.refused.slice(0, 50).map((r) => (
              <li key={`${r.line} ${r.name}`}>
                line {r.line}, {r.name}: {r.says}
              </li>
            ))}
          </ul>
        </div>
      )}
      {said.refused.length === 0 && said.changes.length === 0 && <p>Nothing would change.</p>}
      {said.changes.length > 0 && (
        <div className="overflow-x-auto">
          <table className="plain">
            <thead>
              <tr>
                <th>line</th>
                <th>serial</th>
                <th>field</th>
                <th>is</th>
                <th>will be</th>
              </tr>
            </thead>
            <tbody>
              {said.changes.slice(0, 200).map((c) => (
                <tr key={`${c.line} ${c.field}`}>
                  <td className="num">{c.line}</td>
                  <td>{c.serial}</td>
                  <td>{c.field}</td>
                  <td className="text-soft">{c.from}</td>
                  <td className="font-semibold">{c.to || <span className="text-soft">nothing</span>}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {said.changes.length > 200 && (
            <p className="text-soft">The first 200 of {said.changes.length} changes are shown.</p>
          )}
        </div>
      )}
      {said.refused.length === 0 && said.changes.length > 0 && (
        <button className="button main" disabled={busy} onClick={write}>
          Write {count(said.changes.length, "change")}
        </button>
      )}
    </>
  );
}
