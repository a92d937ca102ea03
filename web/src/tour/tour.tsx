import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useState, type ReactNode } from "react";
import { Link, useLocation } from "react-router";
import { client, got } from "../api/client";
import { useMe, useRound } from "../api/live";

const key = "tour";

/** The tour's own drive: the worst of the demo. */
const tail = "ZU006";

type Scene = { title: string; says: ReactNode; done: boolean; do?: ReactNode };

/**
 * Tour leads through seven short scenes on the demo's fleet. Each is a real job that the person does on the console's
 * pages; a scene ends when its job is done. It starts with ?tour in the address.
 */
export function Tour() {
  const lab = useMe().data?.lab ?? false;
  const { pathname, search } = useLocation();
  const [on, setOn] = useState(
    () => localStorage.getItem(key) === "on" || new URLSearchParams(location.search).has(key),
  );
  const [been, setBeen] = useState<string[]>(() => (localStorage.getItem(key + "-been") ?? "").split(" "));
  const [small, setSmall] = useState(false);
  const here = pathname.startsWith("/drives/")
    ? "drive"
    : search.includes("whatif")
      ? "whatif"
      : /^\/swaps\/[^/]+\/record/.test(pathname)
        ? "record"
        : "";
  if (here && !been.includes(here)) setBeen([...been, here]);
  useEffect(() => {
    localStorage.setItem(key, on ? "on" : "off");
    localStorage.setItem(key + "-been", been.join(" "));
  }, [on, been]);
  if (!on || !lab) return null;
  return <Scenes been={been} small={small} shrink={() => setSmall(!small)} end={() => setOn(false)} />;
}

function Scenes({ been, small, shrink, end }: { been: string[]; small: boolean; shrink: () => void; end: () => void }) {
  const lights = useQuery({ queryKey: ["swaps", "lights"], queryFn: () => got(client.GET("/lights")) });
  const swaps = useQuery({ queryKey: ["swaps"], queryFn: () => got(client.GET("/swaps")) });
  const round = useRound().data;
  const fast = useMutation({ mutationFn: () => got(client.PUT("/lab/speed", { body: { speed: 1200 } })) });
  const w = swaps.data?.find((x) => x.old.tail === tail);
  const line = round?.lines.find((l) => l.tail === tail);
  const past = (...phases: string[]) => !!w && phases.includes(w.phase);
  const begun = !!w && w.phase !== "planned";
  const swap = w ? `/swaps/${w.id}` : "/";
  const drive = line?.drive ?? w?.old.key ?? "";
  const scenes: Scene[] = [
    {
      title: "Read the evidence",
      says: (
        <>
          The first line of the round is the worst drive. Open{" "}
          <Link className="underline" to={`/drives/${drive}`}>
            {tail}
          </Link>{" "}
          and see the evidence.
        </>
      ),
      done: been.includes("drive"),
    },
    {
      title: "Find its bay",
      says: (
        <>
          On the page of{" "}
          <Link className="underline" to={`/drives/${drive}`}>
            {tail}
          </Link>
          , light its bay. It goes out by itself.
        </>
      ),
      done: begun || (lights.data ?? []).some((l) => l.tail === tail),
    },
    {
      title: "Ask what it would cost",
      says: (
        <>
          What happens to the pool without it?{" "}
          <Link className="underline" to="/pools/soundscape?whatif=&lose=1.7">
            Try without it
          </Link>
          .
        </>
      ),
      done: been.includes("whatif"),
    },
    {
      title: "Plan the swap, and begin it",
      says: w ? (
        <>
          Read the checks of the{" "}
          <Link className="underline" to={swap}>
            planned swap
          </Link>
          , give a reason, and begin it.
        </>
      ) : (
        <>
          In the{" "}
          <Link className="underline" to="/">
            round
          </Link>
          , plan a swap of {tail}: nothing is touched yet.
        </>
      ),
      done: begun,
    },
    {
      title: "Change the drive",
      says: (
        <>
          Follow the{" "}
          <Link className="underline" to={swap}>
            swap
          </Link>
          : it shows the next step by hand. Here they are simulated by the buttons named “Lab hand”. A spare may be
          filled first.
        </>
      ),
      done: begun && !!w.new?.tail && !past("pull", "insert"),
    },
    {
      title: "Confirm, and follow the recovery",
      says: (
        <>
          Type the tail of the new label into the{" "}
          <Link className="underline" to={swap}>
            swap
          </Link>
          , and watch the pool become healthy. Time may run faster:
        </>
      ),
      do: (
        <button className="button small" onClick={() => fast.mutate()}>
          1200 times as fast
        </button>
      ),
      done: past("closed"),
    },
    {
      title: "Read the record",
      says: (
        <>
          Who did what, when, and at which margin:{" "}
          <Link className="underline" to={w ? `/swaps/${w.id}/record` : "/swaps"}>
            the record
          </Link>
          .
        </>
      ),
      done: been.includes("record"),
    },
  ];
  const at = scenes.findIndex((s) => !s.done);
  const now = scenes[at];
  return (
    <aside
      aria-label="Tour"
      className="no-print fixed bottom-[calc(var(--frame)+4.5rem)] right-3 z-30 w-[min(21rem,calc(100vw-1.5rem))] space-y-2 rounded-lg border-2 border-accent bg-sheet p-4 shadow-lg"
    >
      <p className="flex items-center justify-between gap-3">
        <b>{now ? `Scene ${at + 1} of ${scenes.length}: ${now.title}` : "That was the tour"}</b>
        <span className="flex gap-1">
          <button className="button small" aria-expanded={!small} onClick={shrink}>
            {small ? "Show" : "Hide"}
          </button>
          <button className="button small" onClick={end}>
            End
          </button>
        </span>
      </p>
      {!small && (
        <>
          {now ? (
            <>
              <p>{now.says}</p>
              {now.do}
            </>
          ) : (
            <p>A drive was replaced, from its first sign to a healthy pool. The same works on your own hosts.</p>
          )}
          <ol aria-label="Scenes" className="flex gap-1.5">
            {scenes.map((s) => (
              <li key={s.title} className={`h-1.5 grow rounded ${s.done ? "bg-accent" : "bg-line"}`}>
                <span className="sr-only">
                  {s.title}
                  {s.done ? ", done" : ""}
                </span>
              </li>
            ))}
          </ol>
        </>
      )}
    </aside>
  );
}
