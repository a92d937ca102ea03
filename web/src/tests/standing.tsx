import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, got, type S } from "../api/client";
import { useNow } from "../api/live";
import { day, exact, span } from "../parts/format";
import { Failed, Hint, Tail, Waiting } from "../parts/parts";

const words: Record<string, string> = {
  failed: "whose newest test failed",
  overdue: "that are overdue",
  held: "whose test is held back",
  never: "that were never tested",
  cannot: "that cannot be tested",
};

/** Standing lists drives by the time of their last tests; problems are first. */
export function Standing({ which, counts }: { which: string; counts: Record<string, number> }) {
  const q = useInfiniteQuery({
    queryKey: ["calendar", "standing", which],
    initialPageParam: "",
    placeholderData: keepPreviousData,
    getNextPageParam: (last: S["TestStanding"]) => last.next || undefined,
    queryFn: ({ pageParam }) =>
      got(
        client.GET("/selftests/standing", {
          params: {
            query: { which: (which || undefined) as "failed" | undefined, cursor: pageParam || undefined, limit: 40 },
          },
        }),
      ),
  });
  if (q.error) return <Failed what="Last tests of each drive" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting />;
  const all = q.data.pages.flatMap((p) => p.drives);
  const total = q.data.pages[0]?.total ?? 0;
  return (
    <section aria-labelledby="standing">
      <h2 id="standing" className="mb-2">
        {which ? `${total} drives ${words[which] ?? ""}` : `${counts.all} drives, the most important first`}
      </h2>
      <div tabIndex={0} role="region" aria-label="Drives and their tests" className="sheet overflow-x-auto">
        <table className="plain">
          <thead>
            <tr>
              <th>drive</th>
              <th>bay</th>
              <th>pool</th>
              <th>short</th>
              <th>extended</th>
              <th>next</th>
              <th>plan</th>
            </tr>
          </thead>
          <tbody>
            {all.map((d) => (
              <tr key={d.drive}>
                <td>
                  <Tail tail={d.tail} to={`/drives/${d.drive}`} />
                  {d.says && <span className="block max-w-sm text-sm">{d.says}</span>}
                </td>
                <td className="whitespace-nowrap">{d.bay}</td>
                <td>{d.pool && <Link to={`/pools/${encodeURIComponent(d.pool)}`}>{d.pool}</Link>}</td>
                <td>
                  <Last test={d.short} />
                </td>
                <td>
                  <Last test={d.extended} />
                </td>
                <td className="num whitespace-nowrap">
                  {d.next
                    ?.filter((t) => t.at && t.state === "planned")
                    .slice(0, 2)
                    .map((t, i) => (
                      <span key={i} className="block">
                        {t.kind} {day(new Date(t.at!))}
                      </span>
                    ))}
                </td>
                <td>
                  {d.plan && (
                    <Hint
                      text={
                        <>
                          {d.plan_why}
                          {d.plan_else && `; otherwise ${d.plan_else} would hold`}
                        </>
                      }
                    >
                      <span tabIndex={0}>{d.plan}</span>
                    </Hint>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {all.length === 0 && <p className="px-4 py-3 text-soft">None.</p>}
      </div>
      {q.hasNextPage && (
        <button className="button mt-3" disabled={q.isFetchingNextPage} onClick={() => void q.fetchNextPage()}>
          Show more of {total}
        </button>
      )}
    </section>
  );
}

function Last({ test }: { test?: S["LastTest"] }) {
  const now = useNow(60_000);
  if (!test?.at) return <span className="text-soft">{test?.result ?? "never"}</span>;
  const at = new Date(test.at);
  return (
    <Hint text={`${test.about ? "about " : ""}${exact(at)}, by its power-on hours`}>
      <span tabIndex={0} className="num whitespace-nowrap">
        <span className={test.result === "failed" ? "font-semibold text-replace" : ""}>{test.result}</span>{" "}
        <span className="text-soft">{span(now.getTime() - at.getTime())} ago</span>
      </span>
    </Hint>
  );
}
