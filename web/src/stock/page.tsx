import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, once, type S } from "../api/client";
import { useMe, useNow } from "../api/live";
import { decimal, exact, percent, span } from "../parts/format";
import { Ago, Empty, Failed, Seam, Title, Waiting } from "../parts/parts";
import { AsOf, At, To } from "../parts/to";
import { useTell } from "../parts/toast";
import { Checks } from "../swaps/step";

/** StockPage shows the drives that are kept to replace others, and tests of new ones. */
export default function StockPage() {
  const stock = useQuery({ queryKey: ["stock"], queryFn: () => got(client.GET("/stock")) });
  const hq = useMe().data?.headquarters ?? false;
  const tests = useQuery({ queryKey: ["acceptances"], queryFn: () => got(client.GET("/acceptances")), enabled: !hq });
  if (stock.error) return <Failed what="The stock" error={stock.error} again={() => void stock.refetch()} />;
  const runs = hq ? [] : tests.data;
  if (!stock.data || !runs) return <Waiting />;
  const open = runs.filter((a) => a.state === "running" || a.state === "paused");
  return (
    <>
      <Title>Stock</Title>
      {!hq && <Policy />}
      {open.map((a) => (
        <Testing key={a.id} test={a} />
      ))}
      {stock.data.length === 0 && (
        <Empty>
          No drive is in stock.
          {!hq && " Put a new one into a free bay, and it shows here, to be tested."}
        </Empty>
      )}
      <ul className="space-y-2">
        {stock.data.map((x) => (
          <Item
            key={`${x.site} ${x.drive}`}
            item={x}
            busy={open.some((a) => a.drive === x.drive)}
            newest={runs.find((a) => a.drive === x.drive)}
          />
        ))}
      </ul>
    </>
  );
}

const tested = {
  passed: ["✓", "text-fine", "tested, passed"],
  failed: ["✗", "text-replace", "failed its test"],
  running: ["…", "text-soft", "is being tested"],
  none: ["?", "text-watch", "not tested yet"],
} as const;

function Item({ item: x, busy, newest }: { item: S["StockItem"]; busy: boolean; newest?: S["Acceptance"] }) {
  const [sign, ink, word] = tested[x.accepted ?? "none"];
  return (
    <li className="sheet p-4">
      <div className="grid gap-x-6 gap-y-1 sm:grid-cols-[8rem_1fr_auto]">
        <To site={x.site} to={`/drives/${x.drive}`} className="tail text-2xl">
          {x.tail}
        </To>
        <div>
          <p>
            <At site={x.site} />
            <b>{decimal(x.capacity_bytes)}</b> {x.model}{" "}
            <span className="text-soft">
              {x.place ?? "on the shelf"}
              {x.note && ` · ${x.note}`}
              <AsOf at={x.as_of} />
            </span>
          </p>
          <p>
            <span className={`font-bold ${ink}`} aria-hidden>
              {sign}
            </span>{" "}
            <span className={ink}>{word}</span>
            {x.accepted_at && (x.accepted === "passed" || x.accepted === "failed") && (
              <span className="text-soft">
                {" "}
                <Ago at={x.accepted_at} />
              </span>
            )}
            {x.says && <span className="text-soft">: {x.says}</span>}
          </p>
          <p className="text-soft">
            {x.promised ? (
              <b>promised to the swap of {x.promised}</b>
            ) : x.as_of ? (
              "not known where it fits now"
            ) : x.fits?.length ? (
              `would fit in ${x.fits.join(", ")}`
            ) : (
              "fits in no pool"
            )}
          </p>
        </div>
        {x.here && !x.site && !busy && x.accepted !== "passed" && <Begin item={x} />}
      </div>
      {newest && newest.checks.length > 0 && x.accepted !== "none" && (
        <details className="mt-2">
          <summary className="min-h-8 cursor-pointer text-soft">findings</summary>
          <Checks checks={newest.checks} />
        </details>
      )}
    </li>
  );
}

const usePolicy = () =>
  useQuery({ queryKey: ["acceptances", "policy"], queryFn: () => got(client.GET("/acceptance-policy")) });

/** Asked are the options of an acceptance test. */
function Asked({
  surface,
  extended,
  set,
}: {
  surface: boolean;
  extended: boolean;
  set: (to: { surface?: boolean; extended?: boolean }) => void;
}) {
  return (
    <>
      <label className="flex min-h-9 items-center gap-2">
        <input
          type="checkbox"
          className="size-5"
          checked={surface}
          onChange={(e) => set({ surface: e.target.checked })}
        />{" "}
        write and read back its whole surface
      </label>
      <label className="flex min-h-9 items-center gap-2">
        <input
          type="checkbox"
          className="size-5"
          checked={extended}
          onChange={(e) => set({ extended: e.target.checked })}
        />{" "}
        extended self-test
      </label>
    </>
  );
}

/** Policy is the default test of new drives. */
function Policy() {
  const tell = useTell();
  const queries = useQueryClient();
  const p = usePolicy().data;
  const [draft, setDraft] = useState<{ surface?: boolean; extended?: boolean }>({});
  const save = useMutation({
    mutationFn: () =>
      got(
        client.PUT("/acceptance-policy", {
          body: { surface: p!.surface, extended: p!.extended, rate_bytes: p!.rate_bytes, ...draft },
        }),
      ),
    onSuccess: () => {
      setDraft({});
      void queries.invalidateQueries({ queryKey: ["acceptances"] });
      tell("New drives are tested like this from now on. Running tests do not change.");
    },
    onError: (e) => tell(e.message, true),
  });
  if (!p) return null;
  const words = [
    "their past",
    "short self-test",
    p.surface && "whole surface",
    p.extended && "extended self-test",
    "error counters",
  ]
    .filter(Boolean)
    .join(", ");
  const changed = Object.keys(draft).length > 0;
  return (
    <details className="mb-4 max-w-xl">
      <summary className="min-h-8 cursor-pointer text-soft">New drives are tested for {words}</summary>
      <form
        className="mt-2 space-y-2"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Asked
          surface={draft.surface ?? p.surface}
          extended={draft.extended ?? p.extended}
          set={(to) => setDraft({ ...draft, ...to })}
        />
        <p className="text-sm text-soft">
          Their past and a short self-test are always looked at. A drive that was tested for less needs a reason before
          it is taken into a pool.
          {p.set_by && (
            <>
              {" "}
              Set by {p.set_by}
              {p.set_at && <>, {exact(new Date(p.set_at))}</>}.
            </>
          )}
        </p>
        <button className="button" disabled={!changed || save.isPending}>
          Save
        </button>
      </form>
    </details>
  );
}

function Begin({ item: x }: { item: S["StockItem"] }) {
  const tell = useTell();
  const queries = useQueryClient();
  const policy = usePolicy().data;
  const [open, setOpen] = useState(false);
  const [said, setSaid] = useState<{ surface?: boolean; extended?: boolean }>({});
  const surface = said.surface ?? policy?.surface ?? false,
    extended = said.extended ?? policy?.extended ?? false;
  const [tail, setTail] = useState("");
  const begin = useMutation({
    mutationFn: () =>
      got(
        client.POST("/acceptances", {
          params: once(),
          body: { drive: x.drive, surface, extended, tail, rate_bytes: policy?.rate_bytes },
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["stock"] });
      void queries.invalidateQueries({ queryKey: ["acceptances"] });
    },
    onError: (e) => tell(e.message, true),
  });
  if (!open)
    return (
      <button className="button self-start" onClick={() => setOpen(true)}>
        Test it
      </button>
    );
  return (
    <form
      className="space-y-2 sm:max-w-64"
      onSubmit={(e) => {
        e.preventDefault();
        begin.mutate();
      }}
    >
      <Asked surface={surface} extended={extended} set={(to) => setSaid({ ...said, ...to })} />
      {surface && (
        <label className="block">
          <span className="font-semibold">Label tail, as read on it</span>
          <input
            className="field tail uppercase"
            autoComplete="off"
            required
            value={tail}
            onChange={(e) => setTail(e.target.value)}
          />
        </label>
      )}
      <button className="button main w-full" disabled={begin.isPending}>
        Begin the test
      </button>
    </form>
  );
}

const stages: Record<string, string> = {
  fresh: "its past",
  short: "short self-test",
  surface: "whole surface",
  extended: "extended self-test",
  compare: "error counters",
};

function Testing({ test: a }: { test: S["Acceptance"] }) {
  const tell = useTell();
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: (what: "pause" | "resume" | "stop") =>
      got(
        client.POST(
          (
            {
              pause: "/acceptances/{id}/pause",
              resume: "/acceptances/{id}/resume",
              stop: "/acceptances/{id}/stop",
            } as const
          )[what],
          { params: { path: { id: a.id }, ...once() }, body: {} },
        ),
      ),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["acceptances"] }),
    onError: (e) => tell(e.message, true),
  });
  const now = useNow();
  const at = a.stages.indexOf(a.stage);
  const u = a.surface;
  return (
    <section
      aria-label={`test of ${a.tail}`}
      className={`sheet mb-3 border-l-[6px] p-4 ${a.state === "paused" ? "border-l-watch" : "border-l-accent"}`}
    >
      <h2>
        <span className="tail">{a.tail}</span> {a.state === "paused" ? "rests" : "is being tested"}{" "}
        <span className="text-base font-normal text-soft">
          {a.bay ?? a.host}, by {a.by}
        </span>
      </h2>
      <ol className="mt-2 flex flex-wrap gap-x-5 gap-y-1">
        {a.stages.map((s, i) => (
          <li key={s} className={i === at ? "font-semibold" : "text-soft"}>
            {i < at ? "✓ " : i === at ? "▶ " : ""}
            {stages[s]}
          </li>
        ))}
      </ol>
      {u && a.stage === "surface" && (
        <div className="mt-2">
          <Seam share={u.done_bytes / u.size_bytes} label={u.pass === "write" ? "written" : "read back"} />
          <p className="num">
            {u.pass === "write" ? "written" : "read back"} {percent(u.done_bytes / u.size_bytes)}
            {u.rate_bytes ? `, ${decimal(u.rate_bytes)}/s` : ", no rate known yet"}
            {a.soonest && a.latest && (
              <>
                ; both passes done in {span(Date.parse(a.soonest) - now.getTime())} to{" "}
                {span(Date.parse(a.latest) - now.getTime())}, {exact(new Date(a.soonest)).slice(0, 16)} at the soonest
              </>
            )}
            {u.bad?.length ? (
              <b className="text-replace">
                , {u.bad.length} bad {u.bad.length === 1 ? "place" : "places"}
              </b>
            ) : null}
          </p>
          {u.faults && u.faults.length > 0 && (
            <ul className="num text-sm text-soft">
              {u.faults.map((x) => (
                <li key={x.at}>
                  {x.what}: bytes {x.at.toLocaleString("en")} to {(x.at + x.bytes - 1).toLocaleString("en")}
                </li>
              ))}
            </ul>
          )}
        </div>
      )}
      {a.log.length > 0 && a.state === "paused" && <p className="mt-1">{a.log.at(-1)?.says}</p>}
      <p className="mt-3 flex gap-3">
        {a.stage === "surface" && a.state === "running" && (
          <button className="button small" onClick={() => act.mutate("pause")}>
            Pause
          </button>
        )}
        {a.state === "paused" && (
          <button className="button small main" onClick={() => act.mutate("resume")}>
            Go on
          </button>
        )}
        <button className="button small" onClick={() => act.mutate("stop")}>
          Stop the test
        </button>
      </p>
    </section>
  );
}
