import { Link, useSearchParams } from "react-router";
import { useNow } from "../api/live";
import { decimal, finish, percent } from "../parts/format";
import { useInfiniteQuery } from "@tanstack/react-query";
import { client, got } from "../api/client";
import { useHorizon } from "../parts/horizon";
import { Ago, Empty, Failed, Seam, Title, Waiting, Lasting } from "../parts/parts";
import { LevelBar } from "../round/page";
import { MarginWords } from "./margin";
import { Systems } from "./systems";

/** aPage is how many pools are fetched at once. */
const aPage = 100;

export default function PoolsPage() {
  const now = useNow();
  const [params] = useSearchParams();
  const place = params.get("place") ?? "";
  const horizon = useHorizon().data;
  const pools = useInfiniteQuery({
    queryKey: ["pools", place],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      got(
        client.GET("/pools", {
          params: {
            query: { brief: true, limit: aPage, ...(place && { place }), ...(pageParam && { cursor: pageParam }) },
          },
        }),
      ),
    getNextPageParam: (last) => (last.length < aPage ? undefined : last[last.length - 1]?.id),
  });
  if (pools.error) return <Failed what="The pools" error={pools.error} again={() => void pools.refetch()} />;
  if (!pools.data) return <Waiting rows={5} />;
  const shown = pools.data.pages.flat();
  return (
    <>
      <Title
        aside={
          place ? (
            <Link to="/pools" className="underline underline-offset-2">
              all pools
            </Link>
          ) : (
            "least margin first"
          )
        }
      >
        {place ? `Pools of ${place}` : "Pools"}
      </Title>
      {shown.length === 0 && !place && <Empty>No pool was reported yet. Agents report those of their hosts.</Empty>}
      <ul className="space-y-2.5">
        {shown.map((p) => {
          const share = p.capacity_bytes ? p.used_bytes / p.capacity_bytes : 0;
          const r = p.recovery?.state === "running" ? p.recovery : undefined;
          return (
            <li key={p.id} className="sheet grid items-center gap-x-6 gap-y-2 p-4 md:grid-cols-[13rem_15rem_1fr]">
              <div>
                <Link to={`/pools/${encodeURIComponent(p.name)}`} className="text-lg font-semibold">
                  {p.name}
                </Link>
                <p className="text-sm text-soft">
                  {p.kind} on {p.hosts.join(", ")}
                </p>
              </div>
              <div>
                <MarginWords pool={p} />
                {p.stale && (
                  <p className="text-sm text-soft">
                    {p.not_seen_since ? (
                      <>
                        not reported <Lasting since={p.not_seen_since} />
                      </>
                    ) : (
                      <>
                        as last reported <Ago at={p.seen_at} />
                      </>
                    )}
                  </p>
                )}
              </div>
              <div className="space-y-1.5">
                <p className="num flex items-center gap-2 text-soft">
                  {!p.used_unknown && <LevelBar share={share} />}
                  {p.used_unknown
                    ? `${decimal(p.capacity_bytes)}; how full is not known`
                    : `${Math.round(100 * share)} % of ${decimal(p.capacity_bytes)} full`}
                </p>
                {r && (
                  <Link to={`/recoveries/${r.id}`} className="grid items-center gap-x-3 sm:grid-cols-[10rem_1fr]">
                    <Seam share={r.share} label={`${r.kind} of ${p.name}`} />
                    <span className="num text-sm">
                      {r.kind} {percent(r.share)}, {finish(now, r.finish)}
                    </span>
                  </Link>
                )}
                {p.swap && (
                  <Link to={`/swaps/${p.swap}`} className="text-sm underline underline-offset-2">
                    a swap is open
                  </Link>
                )}
              </div>
            </li>
          );
        })}
      </ul>
      {pools.hasNextPage && (
        <p className="mt-4 text-center">
          <button
            type="button"
            className="button"
            disabled={pools.isFetchingNextPage}
            onClick={() => void pools.fetchNextPage()}
          >
            {place || !horizon ? "Show more" : `Show more: ${shown.length} of ${horizon.pools} are shown`}
          </button>
        </p>
      )}
      {horizon && horizon.systems.length > 0 && <Systems systems={horizon.systems} />}
    </>
  );
}
