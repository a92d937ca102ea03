import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { client, got, once, type S } from "../api/client";
import { AskReason } from "../parts/reason";
import { Failed, Seam, Waiting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { Standing } from "../recoveries/standing";
import { exact } from "../parts/format";

const marks = { done: "✓", now: "▶", skipped: "–", waiting: "·" } as const;

/** CampaignPage shows the swaps of a whole pool, one after the other. */
export default function CampaignPage() {
  const { id = "" } = useParams();
  const tell = useTell();
  const queries = useQueryClient();
  const q = useQuery({
    queryKey: ["campaigns", id],
    queryFn: () => got(client.GET("/campaigns/{id}", { params: { path: { id } } })),
  });
  const act = useMutation({
    mutationFn: ({ what, reason }: { what: "next" | "skip" | "abandon"; reason: string }) =>
      got(
        client.POST(
          ({ next: "/campaigns/{id}/next", skip: "/campaigns/{id}/skip", abandon: "/campaigns/{id}/abandon" } as const)[
            what
          ],
          { params: { path: { id }, ...once() }, body: { reason } },
        ),
      ),
    onSuccess: (c: S["Campaign"]) => {
      queries.setQueryData(["campaigns", id], c);
    },
    onError: (e) => tell(e.message, true),
  });
  if (q.error) return <Failed what="The campaign" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting />;
  const c = q.data;
  const done = c.items.filter((i) => i.state === "done").length;
  const open = c.state === "waiting" || c.state === "swapping" || c.state === "growing";
  return (
    <div className="space-y-4">
      <header>
        <p className="text-soft">
          Campaign in{" "}
          <Link to={`/pools/${encodeURIComponent(c.pool)}`} className="underline underline-offset-2">
            {c.pool}
          </Link>{" "}
          · led by {c.lead} · planned {exact(new Date(c.planned_at))}
        </p>
        <h1>
          {done} of {c.items.length} changed: {c.says}
        </h1>
      </header>
      <Seam share={done / c.items.length} label={`${done} of ${c.items.length} changed`} />
      {c.recovery && <Standing recovery={c.recovery} height={140} />}
      {open && (
        <p className="flex flex-wrap gap-3">
          {c.swap ? (
            <Link className="button main text-lg" to={`/swaps/${c.swap}`}>
              Open the swap
            </Link>
          ) : (
            c.state === "waiting" && (
              <button
                className="button main text-lg"
                disabled={act.isPending}
                onClick={() => act.mutate({ what: "next", reason: "" })}
              >
                {c.items.some((i) => i.state === "waiting") ? "Plan the next swap" : `Let ${c.pool} grow`}
              </button>
            )
          )}
          {c.state === "waiting" && c.items.some((i) => i.state === "waiting") && (
            <AskReason
              title="Leave the next one out"
              ask="Why is it left out?"
              go="Leave it out"
              onReason={(reason) => act.mutate({ what: "skip", reason })}
            />
          )}
          <AskReason
            title="Abandon the campaign"
            ask="Why is it abandoned?"
            go="Abandon it"
            onReason={(reason) => act.mutate({ what: "abandon", reason })}
          />
        </p>
      )}
      <ol className="sheet divide-y divide-line">
        {c.items.map((i) => (
          <li
            key={i.slot}
            className={[
              "grid grid-cols-[1.5rem_1fr_auto] gap-x-3 px-4 py-2",
              i.state === "now" ? "border-l-[6px] border-l-accent" : "",
            ].join(" ")}
          >
            <span aria-label={i.state}>{marks[i.state]}</span>
            <span>
              <span className="tail text-lg">{i.tail}</span>
              {i.new_tail && (
                <>
                  {" "}
                  → <span className="tail text-lg">{i.new_tail}</span>
                </>
              )}{" "}
              <span className="text-soft">
                {i.group}, place {i.slot}
                {i.bay && `, ${i.bay}`}
              </span>
            </span>
            {i.swap && (
              <Link className="underline underline-offset-2" to={`/swaps/${i.swap}`}>
                swap
              </Link>
            )}
          </li>
        ))}
        {c.grow && (
          <li className="grid grid-cols-[1.500rem_1fr] gap-x-3 px-4 py-2">
            <span>{c.state === "done" ? "✓" : c.state === "growing" ? "▶" : "·"}</span>
            <span>then {c.pool} grows</span>
          </li>
        )}
      </ol>
    </div>
  );
}
