import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, got } from "../api/client";
import { Ago, Empty, Failed, Title, Waiting } from "../parts/parts";

export default function SwapsPage() {
  const swaps = useQuery({ queryKey: ["swaps"], queryFn: () => got(client.GET("/swaps")) });
  const campaigns = useQuery({ queryKey: ["campaigns"], queryFn: () => got(client.GET("/campaigns")) });
  if (swaps.error) return <Failed what="The swaps" error={swaps.error} again={() => void swaps.refetch()} />;
  if (!swaps.data) return <Waiting />;
  return (
    <>
      <Title>Swaps</Title>
      {campaigns.data?.map((c) => (
        <p key={c.id} className="sheet mb-2">
          <Link to={`/campaigns/${c.id}`} className="grid gap-x-6 gap-y-1 p-4 sm:grid-cols-[9rem_1fr_auto]">
            <b>campaign</b>
            <span>
              {c.pool}: {c.items.filter((i) => i.state === "done").length} of {c.items.length} changed; {c.says}
            </span>
            <span className="text-soft">led by {c.lead}</span>
          </Link>
        </p>
      ))}
      {swaps.data.length === 0 && (
        <Empty>No swap was planned yet. Plan one from the round, or from a drive's page.</Empty>
      )}
      <ul className="space-y-2">
        {swaps.data.map((w) => (
          <li key={w.id} className={`sheet ${w.wrong?.length ? "border-replace" : ""}`}>
            <Link to={`/swaps/${w.id}`} className="grid gap-x-6 gap-y-1 p-4 sm:grid-cols-[9rem_1fr_auto]">
              <b>{w.open ? (w.steps.find((s) => s.state === "now")?.title ?? w.phase) : w.phase}</b>
              <span>
                {w.pool}: <span className="tail">{w.old.tail}</span>
                {w.new?.tail && (
                  <>
                    {" "}
                    → <span className="tail">{w.new.tail}</span>
                  </>
                )}{" "}
                <span className="text-soft">led by {w.lead}</span>
              </span>
              <span className="text-soft">
                planned <Ago at={w.planned_at} />
              </span>
            </Link>
          </li>
        ))}
      </ul>
    </>
  );
}
