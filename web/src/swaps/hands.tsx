import { useMutation } from "@tanstack/react-query";
import { client, got } from "../api/client";
import { useTell } from "../parts/toast";
import type { Swap } from "./step";

/** LabHands has buttons for the work of hands in the demo; with real hosts it is empty. */
export function LabHands({ swap: w }: { swap: Swap }) {
  const tell = useTell();
  const into = w.into ?? w.old.bay ?? w.host;
  // Without a map, the drive is found by its label, and the next one goes into its place.
  const from = w.old.bay ?? w.old.tail;
  const pull = (bay: string) => got(client.POST("/lab/pull", { body: { bay } }));
  const insert = (bay: string, drive?: string) =>
    got(client.POST("/lab/insert", { body: { bay, drive, like: drive ? undefined : w.old.tail } }));
  const power = async (on: boolean) => void (await client.POST("/lab/power", { body: { host: w.host, on } }));
  const hands: Record<string, { says: string; do: () => Promise<string> } | undefined> = {
    pull: !w.hold
      ? {
          says: w.old.bay ? `pull the drive in ${from}` : `pull ${from}`,
          do: async () => {
            const m = await pull(from);
            return `${m.tail} is out of ${m.bay}.`;
          },
        }
      : undefined,
    insert: {
      says: w.refused ? "take that one out and put in one that fits" : `put a drive that fits into ${into}`,
      do: async () => {
        if (w.refused) await pull(w.refused_tail ?? into);
        const m = await insert(into);
        return `${m.tail} is in ${m.bay}. That is what its label says.`;
      },
    },
    down: {
      says: `shut ${w.host} down`,
      do: async () => {
        await power(false);
        return `${w.host} has no power.`;
      },
    },
    change: w.old.bay
      ? {
          says: `change the drive in ${w.old.bay} and bring ${w.host} up`,
          do: async () => {
            if (!w.old_gone) await pull(w.old.bay!);
            const m = await insert(w.old.bay!);
            await power(true);
            return `${m.tail} is in ${m.bay}, and ${w.host} starts. That is what its label says.`;
          },
        }
      : undefined,
    rehouse:
      w.old.bay && w.new?.bay && !w.hold
        ? {
            says: `move ${w.new.tail} to ${w.old.bay}`,
            do: async () => {
              await pull(w.new!.bay!);
              await insert(w.old.bay!, w.new!.tail);
              await power(true);
              return `${w.new!.tail} is in ${w.old.bay}.`;
            },
          }
        : undefined,
  };
  const hand = hands[w.phase];
  const act = useMutation({
    mutationFn: () => hand!.do(),
    onSuccess: (says) => tell(says),
    onError: (e: Error) => tell(e.message, true),
  });
  if (!hand) return null;
  return (
    <button
      className="button small max-w-full text-left whitespace-normal"
      disabled={act.isPending}
      onClick={() => act.mutate()}
    >
      Lab hand: {hand.says}
    </button>
  );
}
