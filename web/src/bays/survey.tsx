import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useAwake } from "../parts/attention";
import { ReadLabel } from "../parts/camera";
import { Failed, Title, Waiting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { useBays } from "./drawing";

/** Survey finds the bays of a host: its drives blink one by one, and each is tapped where it does. Made for thumbs. */
export default function SurveyPage() {
  const { host = "" } = useParams();
  const queries = useQueryClient();
  const tell = useTell();
  const map = useBays(host);
  const walk = useQuery({
    queryKey: ["survey", host],
    queryFn: () => got(client.GET("/hosts/{host}/survey", { params: { path: { host } } })),
    refetchInterval: 2000,
  });
  const act = useMutation({
    mutationFn: (body: S["SurveyAct"]) =>
      got(client.POST("/hosts/{host}/survey", { params: { path: { host }, ...once() }, body })),
    onSuccess: (v) => {
      queries.setQueryData(["survey", host], v);
      void queries.invalidateQueries({ queryKey: ["bays"] });
    },
    onError: (e: Error) => tell(e.message, true),
  });
  const [first, setFirst] = useState("");
  useAwake(walk.data?.open ?? false);
  const [tails, setTails] = useState("");
  if (walk.error) return <Failed what={`The survey of ${host}`} error={walk.error} again={() => void walk.refetch()} />;
  if (!walk.data || !map.data) return <Waiting />;
  const w = walk.data;
  const at = new Map(w.done.map((d) => [d.bay, d.tail]));
  const title = (
    <Title
      aside={
        <Link className="underline" to={`/bays/${host}`}>
          the map of {host}
        </Link>
      }
    >
      Survey of {host}
    </Title>
  );
  if (!w.open) {
    return (
      <>
        {title}
        <div className="sheet max-w-2xl space-y-4 p-5">
          <p>
            Stand in front of the drives. They are lit one after another; where a bay has no light, its activity light
            blinks: <b>three flashes, and a pause</b>. Tap the bay in which you see it. What you found is kept with
            every tap, so you can stop and go on later, here or on another screen.
          </p>
          <div className="flex flex-wrap gap-3">
            <button className="button main" disabled={act.isPending} onClick={() => act.mutate({ act: "begin" })}>
              Begin
            </button>
            <button
              className="button whitespace-normal"
              disabled={act.isPending}
              onClick={() => act.mutate({ act: "begin", all: true })}
            >
              Start with all drives, including known bays
            </button>
          </div>
          {act.error && <p className="font-semibold text-replace">{act.error.message}</p>}
        </div>
      </>
    );
  }
  const now = w.now?.drive ? w.now : undefined;
  return (
    <>
      {title}
      <div aria-live="polite" className="sheet sticky top-(--top) z-20 mb-4 p-4">
        {now ? (
          <>
            <p className="text-lg font-semibold">
              Which bay {now.how === "rhythm" ? "blinks: three flashes, and a pause?" : now.lit ? "is lit?" : "lights?"}
            </p>
            <p className="text-soft">
              <span className="tail text-ink">{now.tail}</span> {now.model}
              {now.pool && `, ${now.pool}`}; {w.left} left{!now.lit && !now.says && "; it is asked to light"}
            </p>
            {!now.lit && now.says && (
              <p className="text-replace">It cannot be lit: {now.says}. Read its label, or pass.</p>
            )}
          </>
        ) : (
          <p className="text-lg font-semibold">Every drive has its bay.</p>
        )}
        <div className="mt-3 flex flex-wrap gap-2">
          {now && (
            <button className="button" disabled={act.isPending} onClick={() => act.mutate({ act: "pass" })}>
              I see no light
            </button>
          )}
          <button
            className="button"
            disabled={act.isPending || w.done.length === 0}
            onClick={() => act.mutate({ act: "back" })}
          >
            Undo the last
          </button>
          <button
            className={`button ${now ? "" : "main"}`}
            disabled={act.isPending}
            onClick={() => act.mutate({ act: "end" })}
          >
            Keep {w.done.length} and end
          </button>
        </div>
      </div>
      <div className="space-y-5">
        {map.data.sections
          .filter((s) => !s.told)
          .map((s) => (
            <figure key={s.name} className="overflow-x-auto">
              <figcaption className="mb-2 font-semibold">
                {host} / {s.name}
              </figcaption>
              <div
                className="grid gap-1 rounded-md border-2 border-edge bg-sheet p-1.5"
                style={{ gridTemplateColumns: `repeat(${s.columns}, minmax(3.2rem, 1fr))` }}
              >
                {s.bays.map((b) => {
                  const found = at.get(b.address);
                  return (
                    <button
                      key={b.number}
                      disabled={!now || act.isPending || !!found}
                      onClick={() => act.mutate({ act: "tap", bay: b.address })}
                      style={{ gridRow: b.row + 1, gridColumn: b.column + 1 }}
                      className={[
                        "min-h-14 rounded border text-center",
                        found ? "border-line bg-raised" : "border-edge font-semibold",
                      ].join(" ")}
                    >
                      <span className="num block text-lg leading-tight">{b.name || b.number}</span>
                      <span className="tail block truncate text-xs tracking-normal">{found ?? ""}</span>
                    </button>
                  );
                })}
              </div>
            </figure>
          ))}
      </div>
      {w.skipped.length > 0 && (
        <p className="mt-4">
          Nobody saw light:{" "}
          {w.skipped.map((t) => (
            <span key={t} className="tail mr-2">
              {t}
            </span>
          ))}
          They come again at the end.
        </p>
      )}
      <details className="sheet mt-5 p-4">
        <summary className="cursor-pointer font-semibold">Or type the labels, in order of the bays</summary>
        <form
          className="mt-3 space-y-3"
          onSubmit={(e) => {
            e.preventDefault();
            act.mutate(
              { act: "read", bay: `${host}/${first}`, tails: tails.split(/[\s,;]+/).filter(Boolean) },
              { onSuccess: () => setTails("") },
            );
          }}
        >
          <label className="block">
            From bay
            <input
              className="field mt-1"
              required
              placeholder="front/1"
              value={first}
              onChange={(e) => setFirst(e.target.value)}
            />
          </label>
          <label className="block">
            Label tails, one after the other; a dash is an empty bay
            <textarea
              className="field tail mt-1 py-2"
              rows={4}
              required
              spellCheck={false}
              value={tails}
              onChange={(e) => setTails(e.target.value)}
            />
          </label>
          <ReadLabel read={(text) => setTails((t) => (t.trim() ? t.trimEnd() + "\n" : "") + text)} />
          <button className="button" disabled={act.isPending}>
            Place them there
          </button>
        </form>
      </details>
    </>
  );
}
