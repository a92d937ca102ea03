import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, got, once, type S } from "../api/client";
import { clock, count } from "../parts/format";
import { useTell } from "../parts/toast";

const states: Record<S["Light"]["state"], string> = {
  asked: "light ordered",
  lit: "lit",
  going: "being switched off",
  out: "off",
  failed: "failed",
};

function useAgain() {
  const queries = useQueryClient();
  return () => {
    for (const key of ["lights", "bays", "drive"]) void queries.invalidateQueries({ queryKey: [key] });
  };
}

/** Lights lists the lights that are on, on all hosts, and turns them off. */
export function Lights() {
  const tell = useTell();
  const again = useAgain();
  const q = useQuery({ queryKey: ["lights"], queryFn: () => got(client.GET("/lights")) });
  const off = useMutation({
    mutationFn: (id: string) => got(client.DELETE("/lights/{id}", { params: { path: { id } } })),
    onError: (e: Error) => tell(e.message, true),
    onSettled: again,
  });
  if (!q.data?.length) return null;
  return (
    <details className="sheet mb-4 px-4 py-2" open={q.data.length <= 3}>
      <summary className="min-h-8 cursor-pointer">{count(q.data.length, "bay")} with a light</summary>
      <ul className="space-y-1.5 py-1">
        {q.data.map((l) => (
          <li key={l.id} className="flex flex-wrap items-center gap-x-3 gap-y-1">
            <span className={`size-3 rounded-full ${l.state === "lit" ? "lit bg-lamp" : "border border-edge"}`} />
            <b>{l.bay}</b>
            {l.tail && <span className="tail">{l.tail}</span>}
            <span className="text-soft">
              {states[l.state]} until {clock(new Date(l.until))}
              {l.by && `, by ${l.by}`}
              {l.all_but && `, to show ${l.all_but} by its dark bay`}
              {l.says && `: ${l.says}`}
            </span>
            {l.state !== "going" && (
              <button className="button small" disabled={off.isPending} onClick={() => off.mutate(l.id)}>
                Switch off<span className="sr-only"> {l.bay}</span>
              </button>
            )}
          </li>
        ))}
      </ul>
    </details>
  );
}

/** LightOthers lights all other bays of a section: for a drive that does not answer, or a bay without a light. */
export function LightOthers({ drive, tail }: { drive: string; tail: string }) {
  const tell = useTell();
  const again = useAgain();
  const light = useMutation({
    mutationFn: () => got(client.POST("/lights", { params: once(), body: { drive, seconds: 600, all_but: true } })),
    onSuccess: (l) =>
      tell(
        `Lights of all other bays of the section ordered until ${clock(new Date(l.until))}. ${tail} is the dark one.`,
      ),
    onError: (e: Error) => tell(e.message, true),
    onSettled: again,
  });
  return (
    <button className="button w-full" disabled={light.isPending} onClick={() => light.mutate()}>
      Light all others of its section
    </button>
  );
}
