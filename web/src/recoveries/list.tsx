import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { client, got } from "../api/client";
import { useNow } from "../api/live";
import { decimal, exact, finish, percent, span } from "../parts/format";
import { Ago, Empty, Failed, Seam, Title, Waiting } from "../parts/parts";
import { Compare, mostCompared } from "./compare";

export default function RecoveriesPage() {
  const now = useNow();
  const [where, setWhere] = useSearchParams();
  const chosen = where.getAll("with");
  const choose = (id: string) =>
    setWhere(
      { with: chosen.includes(id) ? chosen.filter((x) => x !== id) : [...chosen, id].slice(-mostCompared) },
      { replace: true },
    );
  const q = useQuery({ queryKey: ["recoveries"], queryFn: () => got(client.GET("/recoveries")) });
  if (q.error) return <Failed what="The recoveries" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting />;
  return (
    <>
      <Title>Recoveries</Title>
      {q.data.length === 0 && (
        <Empty>No recovery was seen yet. Resilvers, rebuilds, rebalances and scrubs appear here by themselves.</Empty>
      )}
      {q.data.length > 1 && chosen.length < 2 && (
        <p className="mb-3 text-soft">
          {chosen.length === 0 ? `Choose two to ${mostCompared} to compare them.` : "Choose one more to compare them."}
        </p>
      )}
      {chosen.length > 1 && <Compare ids={chosen} />}
      <ul className="space-y-2">
        {q.data.map((r) => (
          <li key={r.id} className="sheet flex items-center">
            <label className="p-4 pr-0">
              <input
                type="checkbox"
                className="size-6"
                aria-label={`Compare the ${r.kind} of ${r.pool} that began ${exact(new Date(r.started_at))}`}
                checked={chosen.includes(r.id)}
                onChange={() => choose(r.id)}
              />
            </label>
            <Link
              to={`/recoveries/${r.id}`}
              className="grid grow items-center gap-x-6 gap-y-1 p-4 sm:grid-cols-[15rem_1fr]"
            >
              <span>
                <b>{r.pool}</b> {r.kind}
                {r.tail && (
                  <>
                    {" "}
                    of <span className="tail">{r.tail}</span>
                  </>
                )}
              </span>
              {r.state === "running" ? (
                <span className="grid items-center gap-x-4 sm:grid-cols-[12rem_1fr]">
                  <Seam share={r.share} label={`${r.kind} of ${r.pool}`} />
                  <span className="num">
                    {percent(r.share)}, {finish(now, r.finish)}
                  </span>
                </span>
              ) : (
                <span className="num text-soft">
                  {r.state}, {decimal(r.todo_bytes)} in{" "}
                  {r.ended_at ? span(Date.parse(r.ended_at) - Date.parse(r.started_at)) : "an unknown time"}
                  {r.ended_at && (
                    <>
                      , <Ago at={r.ended_at} />
                    </>
                  )}
                  {r.unrepairable > 0 && <b className="text-replace"> · {r.unrepairable} left unrecovered</b>}
                </span>
              )}
            </Link>
          </li>
        ))}
      </ul>
    </>
  );
}
