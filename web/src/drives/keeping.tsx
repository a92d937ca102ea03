import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useMe } from "../api/live";
import { Command } from "../parts/command";
import { useDo } from "../parts/do";
import { AskReason } from "../parts/reason";

/** Keeping sets whether a drive without a place in a pool is in stock, or is listed at all. */
export function Keeping({ drive: d }: { drive: S["Drive"] }) {
  const me = useMe().data;
  const go = useNavigate();
  const stock = useQuery({ queryKey: ["stock"], queryFn: () => got(client.GET("/stock")) });
  const act = useDo("stock", "drive", "drives");
  const [note, setNote] = useState("");
  if (d.pool || d.places?.length || !stock.data) return null;
  const item = stock.data.find((x) => x.drive === d.key);
  const path = { params: { path: { drive: d.key } } };
  return (
    <section aria-label="Stock" className="sheet space-y-2.5 p-4">
      <p>
        {item?.kept
          ? `In stock${item.note ? `: ${item.note}` : ""}`
          : item
            ? "Counts as stock: it holds nothing and is in no pool"
            : "Not in stock"}
      </p>
      {item?.kept ? (
        <button
          className="button w-full"
          disabled={act.isPending}
          onClick={() =>
            act.mutate({
              ask: () => got(client.DELETE("/stock/{drive}", path)),
              says: `${d.tail} was removed from stock.`,
            })
          }
        >
          Remove from stock
        </button>
      ) : (
        <form
          className="space-y-2"
          onSubmit={(e) => {
            e.preventDefault();
            act.mutate({
              ask: () => got(client.PUT("/stock/{drive}", { ...path, body: { note: note.trim() } })),
              says: `${d.tail} is now in stock.`,
              then: () => setNote(""),
            });
          }}
        >
          <input
            className="field w-full"
            aria-label="Note for the stock"
            placeholder="a note, such as: shelf 3"
            maxLength={200}
            value={note}
            onChange={(e) => setNote(e.target.value)}
          />
          <button className="button w-full" disabled={act.isPending}>
            Add to stock
          </button>
        </form>
      )}
      {!d.present && me?.role === "admin" && (
        <AskReason
          title="Forget this drive"
          ask="Reason, for the record"
          go={`Forget ${d.tail}`}
          onReason={(reason) =>
            act.mutate({
              ask: () =>
                got(
                  client.POST("/drives/{drive}/forget", {
                    params: { path: { drive: d.key }, ...once() },
                    body: { reason },
                  }),
                ),
              says: `${d.tail} is forgotten. Reported again, it is there again.`,
              then: () => void go("/drives"),
            })
          }
        >
          <p>It is removed from the lists. Its readings are kept until they expire.</p>
          <Command line={`lantern forget drive ${d.tail} --reason "..."`} />
          <p>If it now reports another serial, join the two instead:</p>
          <Command line={`lantern merge ${d.identity.serial} <the serial now> --reason "..."`} />
        </AskReason>
      )}
    </section>
  );
}
