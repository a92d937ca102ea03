import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { client, got, type S } from "../api/client";
import { decimal } from "../parts/format";
import { Failed } from "../parts/parts";

const ink: Record<S["PoolOutcome"], string> = {
  lost: "text-dead font-semibold",
  unreachable: "text-replace font-semibold",
  "reduced margin": "font-semibold",
  unknown: "font-semibold",
  safe: "text-soft",
};
const shape: Record<S["PoolOutcome"], string> = {
  lost: "\u25a8",
  unreachable: "\u25c6",
  "reduced margin": "\u2193",
  unknown: "\u25cc",
  safe: "\u00b7",
};

/**
 * Prospect shows the state of a pool without the members that were removed on its page. It gives no orders to the
 * pool.
 */
export function Prospect({
  pool,
  lose,
  clear,
  done,
}: {
  pool: S["Pool"];
  lose: string[];
  clear: () => void;
  done: () => void;
}) {
  const asked = useQuery({
    queryKey: ["whatif", pool.id, pool.seen_at, ...lose],
    queryFn: () => got(client.GET("/pools/{pool}/whatif", { params: { path: { pool: pool.id }, query: { lose } } })),
    enabled: lose.length > 0,
    placeholderData: keepPreviousData,
  });
  const w = lose.length > 0 ? asked.data : undefined;
  return (
    <section
      aria-label="What if"
      aria-live="polite"
      className={
        "sheet mb-5 lg:sticky lg:top-[calc(var(--top)+0.5rem)] " +
        "lg:z-10 space-y-3 border-2 border-edge p-4 shadow-lg"
      }
    >
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <h2>
          What if
          {lose.length > 0 && (
            <span className="font-normal"> {lose.length === 1 ? "this one is" : `these ${lose.length} are`} lost</span>
          )}
        </h2>
        <span className="flex gap-2">
          {lose.length > 0 && (
            <button className="button small" onClick={clear}>
              Put all back
            </button>
          )}
          <button className="button small" onClick={done}>
            Done
          </button>
        </span>
      </div>
      {lose.length === 0 && (
        <p className="text-soft">Click members to remove them, and see what would happen. Nothing is ordered.</p>
      )}
      {asked.error && <Failed what="The answer" error={asked.error} again={() => void asked.refetch()} />}
      {w && (
        <>
          <p className="text-xl">
            <span className={ink[w.outcome]}>
              {shape[w.outcome]}{" "}
              {w.outcome === "lost"
                ? "Data is lost"
                : w.outcome === "unreachable"
                  ? "Nothing is lost, but some is not served"
                  : w.outcome === "unknown"
                    ? "Unknown"
                    : w.outcome === "safe"
                      ? "Everything is safe"
                      : "Nothing is lost"}
            </span>
            {w.is.known &&
              w.outcome !== "lost" &&
              `; ${w.is.words}${w.is.limited_by ? `, limited by ${w.is.limited_by}` : ""}.`}
            {w.healed.known && w.healed.members !== w.is.members && ` After it recovered by itself: ${w.healed.words}.`}
          </p>
          <div className="overflow-x-auto">
            <table className="plain">
              <thead>
                <tr>
                  <th>volume</th>
                  <th>protection</th>
                  <th>becomes</th>
                  <th>margin then</th>
                  <th>used</th>
                </tr>
              </thead>
              <tbody>
                {w.effects.map((e) => (
                  <tr key={(e.group ?? "") + (e.volume ?? "")}>
                    <td className="font-semibold">{e.volume || e.group}</td>
                    <td>{e.protection}</td>
                    <td className={ink[e.outcome]}>
                      {shape[e.outcome]} {e.outcome}
                    </td>
                    <td>{e.is.words}</td>
                    <td className="num">{decimal(e.used_bytes)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          {w.along.length > 0 && <p>Lost with it, since they depend on it: {w.along.join(", ")}.</p>}
          <ul className="space-y-1 text-soft">
            {grouped(w.comebacks).map((c) => (
              <li key={c.slots.join()}>
                <b className="text-ink">{c.slots.join(", ")}</b>: {c.says}
                {!c.by_itself &&
                  c.needs_bytes > 0 &&
                  `; a drive in ${c.slots.length > 1 ? "each" : "its"} place needs ${decimal(c.needs_bytes)}`}
                .
              </li>
            ))}
            {w.room && w.room.need_bytes > 0 && (
              <li>
                {w.room.fits
                  ? `Room to drain: its data, ${decimal(w.room.need_bytes)}, fits on the others` +
                    (w.room.others_move ? "; pieces on the others may have to move as well." : ".")
                  : `No room to drain: ${w.room.why}.`}
              </li>
            )}
          </ul>
        </>
      )}
    </section>
  );
}

/** grouped joins members with the same text. */
function grouped(in_: S["Comeback"][]) {
  const out: (S["Comeback"] & { slots: string[] })[] = [];
  for (const c of in_) {
    const same = out.find((o) => o.says === c.says && o.needs_bytes === c.needs_bytes);
    if (same) same.slots.push(c.slot);
    else out.push({ ...c, slots: [c.slot] });
  }
  return out;
}
