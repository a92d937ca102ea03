import { useInfiniteQuery } from "@tanstack/react-query";
import { csv, save } from "../parts/csv";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef } from "react";
import { Link, useSearchParams } from "react-router";
import { client, got, type Verdict } from "../api/client";
import { age, count, decimal } from "../parts/format";
import { Empty, Failed, Mark, Tail, Title, Waiting } from "../parts/parts";

const orders = [
  ["-verdict", "worst first"],
  ["place", "by place"],
  ["-power_on_hours", "oldest first"],
  ["-temperature_celsius", "warmest first"],
  ["-read_latency_seconds", "slowest first"],
];
const verdicts: Verdict[] = ["dead", "replace", "watch", "unknown", "sound"];

export default function DrivesPage() {
  const [params, setParams] = useSearchParams();
  const filter = {
    q: params.get("q") ?? "",
    verdict: (params.get("verdict") ?? "") as Verdict | "",
    pool: params.get("pool") ?? "",
    host: params.get("host") ?? "",
    where: params.get("where") ?? "",
    sort: params.get("sort") ?? "-verdict",
  };
  const drives = useInfiniteQuery({
    queryKey: ["drives", filter],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      got(
        client.GET("/drives", {
          params: {
            query: {
              ...(filter.q && { q: filter.q }),
              ...(filter.verdict && { verdict: [filter.verdict] }),
              ...(filter.pool && { pool: [filter.pool] }),
              ...(filter.host && { host: [filter.host] }),
              ...(filter.where && { where: filter.where }),
              sort: filter.sort,
              ...(pageParam && { cursor: pageParam }),
              limit: 500,
            },
          },
        }),
      ),
    getNextPageParam: (last) => last.next,
    placeholderData: (was) => was,
  });
  const rows = drives.data?.pages.flatMap((p) => p.drives) ?? [];
  const total = drives.data?.pages[0]?.total ?? 0;
  const list = useRef<HTMLDivElement>(null);
  const view = useWindowVirtualizer({
    count: rows.length,
    estimateSize: () => 46,
    overscan: 12,
    scrollMargin: list.current?.offsetTop ?? 0,
  });
  const seen = view.getVirtualItems();
  const lastSeen = seen[seen.length - 1]?.index ?? 0;
  useEffect(() => {
    if (lastSeen > rows.length - 100 && drives.hasNextPage && !drives.isFetching) void drives.fetchNextPage();
  }, [lastSeen, rows.length, drives]);
  const set = (name: string, value: string) =>
    setParams(
      (was) => {
        const next = new URLSearchParams(was);
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  return (
    <>
      <Title
        aside={
          <span className="flex flex-wrap items-center gap-4">
            <span className="num">{count(total, "drive")}</span>
            <button
              className="button small"
              disabled={!rows.length}
              title={rows.length < total ? `those that were loaded: ${rows.length}` : undefined}
              onClick={() =>
                save(
                  "drives.csv",
                  csv(
                    [
                      "verdict",
                      "tail",
                      "serial",
                      "bay",
                      "host",
                      "pool",
                      "slot",
                      "model",
                      "size_bytes",
                      "powered_hours",
                      "says",
                    ],
                    rows.map((d) => [
                      d.verdict,
                      d.tail,
                      d.identity.serial,
                      d.bay,
                      d.host,
                      d.pool,
                      d.slot,
                      d.identity.model,
                      d.capacity_bytes,
                      d.power_on_hours,
                      d.says,
                    ]),
                  ),
                )
              }
            >
              As CSV
            </button>
          </span>
        }
      >
        Drives
      </Title>
      <div className="mb-4 flex flex-wrap gap-3">
        <label className="min-w-56 flex-1">
          <span className="sr-only">Find</span>
          <input
            className="field"
            placeholder="any part of serial, WWN, model, bay, pool or host"
            value={filter.q}
            onChange={(e) => set("q", e.target.value)}
          />
        </label>
        <label>
          <span className="sr-only">Verdict</span>
          <select className="field w-auto" value={filter.verdict} onChange={(e) => set("verdict", e.target.value)}>
            <option value="">every verdict</option>
            {verdicts.map((v) => (
              <option key={v}>{v}</option>
            ))}
          </select>
        </label>
        <label>
          <span className="sr-only">Order</span>
          <select
            className="field w-auto"
            value={filter.sort}
            onChange={(e) => set("sort", e.target.value === "-verdict" ? "" : e.target.value)}
          >
            {orders.map(([value, name]) => (
              <option key={value} value={value}>
                {name}
              </option>
            ))}
          </select>
        </label>
        <label className="min-w-56">
          <span className="sr-only">Only where</span>
          <input
            className="field font-mono"
            placeholder="pending_sectors>0"
            key={filter.where}
            defaultValue={filter.where}
            onKeyDown={(e) => e.key === "Enter" && set("where", e.currentTarget.value)}
            onBlur={(e) => set("where", e.currentTarget.value)}
          />
        </label>
        {(filter.pool || filter.host) && (
          <button className="button" onClick={() => setParams({}, { replace: true })}>
            Only {filter.pool || filter.host} ×
          </button>
        )}
      </div>
      {drives.error && <Failed what="The drives" error={drives.error} again={() => void drives.refetch()} />}
      {!drives.data && !drives.error && <Waiting rows={8} />}
      {drives.data && rows.length === 0 && (
        <Empty>
          {params.size
            ? "No drive matches. Remove a filter to see more."
            : "No drive was reported yet. Drives appear when the agent of their host reports: lantern host enrol."}
        </Empty>
      )}
      {rows.length > 0 && (
        <div ref={list} role="table" aria-label="Drives" aria-rowcount={total} className="sheet">
          <div
            role="row"
            className={
              "hidden grid-cols-[7.500rem_6rem_11rem_1fr_6rem_7rem] gap-3 " +
              "border-b border-line px-4 py-2 text-sm text-soft md:grid"
            }
          >
            {["verdict", "tail", "bay", "pool, and findings", "size", "powered for"].map((h) => (
              <span role="columnheader" key={h}>
                {h}
              </span>
            ))}
          </div>
          <div role="rowgroup" style={{ height: view.getTotalSize(), position: "relative" }}>
            {seen.map((v) => {
              const d = rows[v.index];
              if (!d) return null;
              return (
                <div
                  key={d.key}
                  role="row"
                  aria-rowindex={v.index + 1}
                  data-index={v.index}
                  ref={view.measureElement}
                  style={{
                    position: "absolute",
                    top: 0,
                    left: 0,
                    right: 0,
                    transform: `translateY(${v.start - view.options.scrollMargin}px)`,
                  }}
                  className={
                    "grid grid-cols-[7.500rem_6rem_1fr] items-center gap-x-3 border-b " +
                    "border-line px-4 py-2 md:grid-cols-[7.500rem_6rem_11rem_1fr_6rem_7rem]"
                  }
                >
                  <span role="cell">
                    <Mark verdict={d.verdict} size={15} />
                  </span>
                  <span role="cell">
                    <Tail tail={d.tail} to={`/drives/${d.key}`} />
                  </span>
                  <span role="cell" className="truncate">
                    {d.bay ? (
                      d.present ? (
                        d.bay
                      ) : (
                        <span className="text-soft">was in {d.bay}</span>
                      )
                    ) : (
                      `${d.host}, no bay`
                    )}
                  </span>
                  <span role="cell" className="col-span-3 truncate md:col-span-1">
                    {d.pool ? (
                      <Link to={`/pools/${encodeURIComponent(d.pool)}`}>{d.pool}</Link>
                    ) : (
                      <span className="text-soft">no pool</span>
                    )}
                    {d.findings.length > 0 && <span className="text-soft"> · {d.says}</span>}
                  </span>
                  <span role="cell" className="num hidden md:block">
                    {decimal(d.capacity_bytes)}
                  </span>
                  <span role="cell" className="num hidden md:block">
                    {d.power_on_hours ? age(d.power_on_hours) : "not told"}
                  </span>
                </div>
              );
            })}
          </div>
        </div>
      )}
    </>
  );
}
