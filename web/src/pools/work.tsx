import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { client, got, once, type S } from "../api/client";
import { Command } from "../parts/command";
import { decimal } from "../parts/format";
import { useTell } from "../parts/toast";
import { Order, useOrderLine } from "./order";

type Action = S["PoolAction"];

/** Work lists the actions for a pool, each with its effect and the same command. */
export function Work({ pool: p }: { pool: S["Pool"] }) {
  const offers = p.offers ?? [];
  const running = p.recovery?.state === "running" || p.recovery?.state === "paused";
  const quiet = p.stale || !!p.not_seen_since;
  return (
    <section aria-labelledby="work" className="mt-6">
      <h2 id="work" className="mb-2">
        Work on this pool
      </h2>
      {quiet && <p className="mb-2">Its host does not report: no orders can be given now.</p>}
      <div className="sheet divide-y divide-line">
        {offers.includes("rebalance") && !running && (
          <Row title="Rebalance" says="spread its data evenly over its members" line={`lantern rebalance ${p.name}`}>
            <Do pool={p} off={quiet} action={{ action: "rebalance" }} go="Rebalance" />
          </Row>
        )}
        {offers.includes("drain") && !running && <Drain pool={p} off={quiet} />}
        {offers.includes("admit") && <Admit pool={p} off={quiet} />}
        {offers.includes("grow") && (
          <Row
            title="Grow"
            says="grow to the full size of members that were replaced by larger ones"
            line={`lantern grow ${p.name}`}
          >
            <Do pool={p} off={quiet} action={{ action: "grow" }} go="Let it grow" />
          </Row>
        )}
        {offers.includes("nudge") && (
          <Row title="Nudge" says="start a recovery that waits" line={`lantern nudge ${p.name}`}>
            <Do pool={p} off={quiet} action={{ action: "nudge" }} go="Nudge" />
          </Row>
        )}
        {offers.includes("priority") && <Priority pool={p} off={quiet} />}
        <Campaign pool={p} />
        {p.groups.some((g) => g.spread) && <Moves pool={p} />}
        <Fits pool={p} />
        <Survives pool={p} />
      </div>
    </section>
  );
}

function Row({ title, says, line, children }: { title: string; says: string; line: string; children: ReactNode }) {
  return (
    <details className="group">
      <summary className="grid min-h-11 cursor-pointer items-center gap-x-4 px-4 py-2 sm:grid-cols-[9rem_1fr]">
        <b>{title}</b>
        <span className="text-soft">{says}</span>
      </summary>
      <div className="space-y-3 px-4 pb-4">
        {children}
        <div className="text-sm text-soft">
          <span className="mb-1 block">The same on the command line:</span>
          <Command line={line} />
        </div>
      </div>
    </details>
  );
}

function useOrder(p: S["Pool"]) {
  const tell = useTell();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Action) =>
      got(client.POST("/pools/{pool}/actions", { params: { path: { pool: p.id ?? p.name }, ...once() }, body })),
    onSuccess: (o) => {
      tell(`${o.kind} was ordered on ${o.host}. The result is shown here.`);
      void queries.invalidateQueries({ queryKey: ["pools"] });
    },
    onError: (e) => tell(e.message, true),
  });
}

function Do({ pool, action, go, off }: { pool: S["Pool"]; action: Action; go: string; off: boolean }) {
  const order = useOrder(pool);
  return (
    <button className="button main" disabled={off || order.isPending} onClick={() => order.mutate(action)}>
      {go}
    </button>
  );
}

const members = (p: S["Pool"]) => p.groups.flatMap((g) => g.members);

function Drain({ pool: p, off }: { pool: S["Pool"]; off: boolean }) {
  const [slot, setSlot] = useState("");
  const m = members(p).find((x) => x.slot === slot);
  return (
    <Row
      title="Drain"
      says="drain a member: move its data to the others, so that it can be removed"
      line={`lantern drain ${p.name} ${m?.tail || slot || "<member>"}`}
    >
      <p className="flex flex-wrap items-center gap-3">
        <label className="flex items-center gap-2">
          Member
          <select className="field w-auto" value={slot} onChange={(e) => setSlot(e.target.value)}>
            <option value="">choose one</option>
            {members(p).map((x) => (
              <option key={x.slot} value={x.slot}>
                {x.tail || x.slot} {x.bay ?? ""}
              </option>
            ))}
          </select>
        </label>
        {slot && (
          <Link
            className="button"
            to={`/pools/${encodeURIComponent(p.id ?? p.name)}?whatif=&lose=${encodeURIComponent(slot)}`}
          >
            What if it fails
          </Link>
        )}
        {slot && <Do pool={p} off={off} action={{ action: "drain", drive: slot }} go={`Drain ${m?.tail || slot}`} />}
      </p>
    </Row>
  );
}

function Admit({ pool: p, off }: { pool: S["Pool"]; off: boolean }) {
  const stock = useQuery({ queryKey: ["stock"], queryFn: () => got(client.GET("/stock")) });
  const [drive, setDrive] = useState("");
  const [tail, setTail] = useState("");
  const order = useOrder(p);
  const here = (stock.data ?? []).filter((x) => x.here && x.fits?.includes(p.name));
  const chosen = here.find((x) => x.drive === drive);
  const wrong = tail !== "" && !!chosen && tail.trim().toUpperCase() !== chosen.tail.toUpperCase();
  return (
    <Row
      title="Admit"
      says="add an empty drive as a new member"
      line={`lantern admit ${p.name} ${chosen?.tail ?? "<drive>"} --tail <label tail>`}
    >
      {!stock.data ? (
        <p className="text-soft">{stock.isError ? "The stock could not be read." : "Looking…"}</p>
      ) : here.length === 0 ? (
        <p>No empty drive that fits is in a bay of its hosts.</p>
      ) : (
        <form
          className="flex flex-wrap items-end gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            order.mutate({ action: "admit", drive, tail: tail.trim() });
          }}
        >
          <label className="space-y-1">
            <span className="block text-sm">Drive</span>
            <select className="field w-auto" value={drive} onChange={(e) => setDrive(e.target.value)}>
              <option value="">choose one</option>
              {here.map((x) => (
                <option key={x.drive} value={x.drive}>
                  {x.tail}, {x.place}, {decimal(x.capacity_bytes)}
                </option>
              ))}
            </select>
          </label>
          <label className="space-y-1">
            <span className="block text-sm">Label tail, as you read it on the drive</span>
            <input
              className="field w-32 font-mono"
              value={tail}
              aria-invalid={wrong}
              onChange={(e) => setTail(e.target.value)}
            />
          </label>
          <button className="button main" disabled={off || !chosen || !tail.trim() || wrong || order.isPending}>
            Add it
          </button>
          {wrong && (
            <p role="alert" className="w-full">
              {tail.trim()} is not the label tail of the drive that was chosen. Look again at the label.
            </p>
          )}
        </form>
      )}
    </Row>
  );
}

function Priority({ pool: p, off }: { pool: S["Pool"]; off: boolean }) {
  const h = p.priority_hours;
  const [now, setNow] = useState<"low" | "normal" | "high">((p.priority as "low") || "normal");
  const [within, setWithin] = useState<"low" | "normal" | "high">((h?.within as "high") ?? "high");
  const [otherwise, setOtherwise] = useState<"low" | "normal" | "high">((h?.otherwise as "low") ?? "low");
  const [from, setFrom] = useState(h?.from ?? "22:00");
  const [to, setTo] = useState(h?.to ?? "06:00");
  const zone = h?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone;
  const order = useOrder(p);
  const tell = useTell();
  const queries = useQueryClient();
  const done = {
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["pools"] }),
    onError: (e: Error) => tell(e.message, true),
  };
  const path = { params: { path: { pool: p.id ?? p.name } } };
  const keep = useMutation({
    mutationFn: () =>
      got(client.PUT("/pools/{pool}/priority-hours", { ...path, body: { from, to, zone, within, otherwise } })),
    ...done,
  });
  const end = useMutation({ mutationFn: () => got(client.DELETE("/pools/{pool}/priority-hours", path)), ...done });
  const choice = (name: string, value: string, set: (v: "low" | "normal" | "high") => void) => (
    <label className="flex items-center gap-2">
      {name}
      <select className="field w-auto" value={value} onChange={(e) => set(e.target.value as "low")}>
        <option value="low">low</option>
        <option value="normal">normal</option>
        <option value="high">high</option>
      </select>
    </label>
  );
  const hours = h?.from ? `; ${h.within} from ${h.from} to ${h.to} ${h.zone ?? "UTC"}, ${h.otherwise} otherwise` : "";
  return (
    <Row
      title="Priority"
      says={`priority of its recoveries: ${p.priority || "normal"} now${hours}`}
      line={`lantern priority ${p.name} ${within} --from ${from} --to ${to} --otherwise ${otherwise} --zone ${zone}`}
    >
      <p className="flex flex-wrap items-center gap-3">
        {choice("At once", now, setNow)}
        <button
          className="button"
          disabled={off || order.isPending}
          onClick={() => order.mutate({ action: "priority", priority: now })}
        >
          Set
        </button>
      </p>
      <form
        className="flex flex-wrap items-center gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          keep.mutate();
        }}
      >
        {choice("By the hour:", within, setWithin)}
        <label className="flex items-center gap-2">
          from{" "}
          <input
            className="field num w-24"
            pattern="([01]?[0-9]|2[0-3]):[0-5][0-9]"
            title="hours and minutes, such as 22:00"
            required
            value={from}
            onChange={(e) => setFrom(e.target.value)}
          />
        </label>
        <label className="flex items-center gap-2">
          to{" "}
          <input
            className="field num w-24"
            pattern="([01]?[0-9]|2[0-3]):[0-5][0-9]"
            title="hours and minutes, such as 22:00"
            required
            value={to}
            onChange={(e) => setTo(e.target.value)}
          />
        </label>
        {choice("otherwise", otherwise, setOtherwise)}
        <span className="text-soft">{zone}</span>
        <button className="button" disabled={keep.isPending}>
          Save these hours
        </button>
        {h?.from && (
          <button type="button" className="button" disabled={end.isPending} onClick={() => end.mutate()}>
            Remove the hours
          </button>
        )}
      </form>
    </Row>
  );
}

function Campaign({ pool: p }: { pool: S["Pool"] }) {
  const [chosen, setChosen] = useState<string[]>([]);
  const [size, setSize] = useState("");
  const [grow, setGrow] = useState(false);
  const tell = useTell();
  const go = useNavigate();
  const bytes = Math.round(Number(size) * 1e12) || 0;
  const plan = useMutation({
    mutationFn: () =>
      got(
        client.POST("/campaigns", {
          params: once(),
          body: { pool: p.id ?? p.name, drives: chosen, needs_bytes: bytes, grow },
        }),
      ),
    onSuccess: (c) => void go(`/campaigns/${c.id}`),
    onError: (e) => tell(e.message, true),
  });
  const all = members(p).filter((m) => m.drive);
  const tails = all.filter((m) => chosen.includes(m.drive!)).map((m) => m.tail);
  return (
    <Row
      title="Campaign"
      says="change many of its drives, one after the other"
      line={["lantern campaign plan", p.name, ...tails, bytes ? `--size ${size}TB` : "", grow ? "--grow" : ""]
        .filter(Boolean)
        .join(" ")}
    >
      <fieldset>
        <legend className="mb-1 text-sm text-soft">Which drives; none chosen means all of them</legend>
        <span className="flex flex-wrap gap-x-4 gap-y-1">
          {all.map((m) => (
            <label key={m.slot} className="flex min-h-9 items-center gap-1.5">
              <input
                type="checkbox"
                checked={chosen.includes(m.drive!)}
                onChange={(e) =>
                  setChosen(e.target.checked ? [...chosen, m.drive!] : chosen.filter((x) => x !== m.drive))
                }
              />
              <span className="tail">{m.tail}</span>
            </label>
          ))}
        </span>
      </fieldset>
      <p className="flex flex-wrap items-center gap-4">
        <label className="flex items-center gap-2">
          New drives of at least
          <input
            className="field num w-24"
            inputMode="decimal"
            value={size}
            onChange={(e) => setSize(e.target.value)}
          />{" "}
          TB
        </label>
        <label className="flex min-h-11 items-center gap-2">
          <input type="checkbox" checked={grow} onChange={(e) => setGrow(e.target.checked)} />
          grow the pool after the last swap
        </label>
        <button className="button main" disabled={plan.isPending} onClick={() => plan.mutate()}>
          Plan it: nothing is touched
        </button>
      </p>
    </Row>
  );
}

function Moves({ pool: p }: { pool: S["Pool"] }) {
  const state = useOrderLine();
  return (
    <Row
      title="Best order"
      says="in which order drives are best changed, and how much data that moves"
      line={`lantern moves ${p.name}${state.options || " --replace MEMBER=8TB"}`}
    >
      <Order pool={p} state={state} />
    </Row>
  );
}

function Fits({ pool: p }: { pool: S["Pool"] }) {
  const [open, setOpen] = useState(false);
  const fit = useQuery({
    queryKey: ["pools", "fit", p.name],
    queryFn: () => got(client.GET("/pools/{pool}/fit", { params: { path: { pool: p.id ?? p.name } } })),
    enabled: open,
  });
  return (
    <div onFocus={() => setOpen(true)} onMouseEnter={() => setOpen(true)}>
      <Row
        title="Sizes that fit"
        says="the size for each place, and free drives that have it"
        line={`lantern fit ${p.name}`}
      >
        {!fit.data && <p className="text-soft">{fit.isError ? "The sizes that fit could not be read." : "Looking…"}</p>}
        {fit.data && (
          <div className="overflow-x-auto">
            <table className="plain">
              <thead>
                <tr>
                  <th>place</th>
                  <th>drive</th>
                  <th>at least</th>
                  <th>free drives that fit</th>
                </tr>
              </thead>
              <tbody>
                {fit.data.map((f) => (
                  <tr key={f.slot}>
                    <td>{f.slot}</td>
                    <td className="tail">{f.tail}</td>
                    <td className="num">{f.least_bytes.toLocaleString("en")} bytes</td>
                    <td>{f.candidates.map((c) => c.tail || c.slot).join(", ") || "none"}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Row>
    </div>
  );
}

function Survives({ pool: p }: { pool: S["Pool"] }) {
  const [n, setN] = useState(2);
  const look = useMutation({
    mutationFn: () =>
      got(
        client.GET("/pools/{pool}/whatif", {
          params: { path: { pool: p.id ?? p.name }, query: { survives: n } },
        }),
      ),
  });
  const e = look.data?.endurance;
  return (
    <Row
      title="Survives"
      says="what becomes of it for every set of so many lost members"
      line={`lantern whatif ${p.name} --survives ${n}`}
    >
      <p className="flex flex-wrap items-center gap-3">
        <label className="flex items-center gap-2">
          Lost members
          <input
            className="field num w-20"
            type="number"
            min={1}
            max={12}
            value={n}
            onChange={(ev) => setN(Number(ev.target.value))}
          />
        </label>
        <button className="button" disabled={look.isPending} onClick={() => look.mutate()}>
          Look at every set
        </button>
      </p>
      {look.error && <p role="alert">{look.error.message}</p>}
      {e && (
        <ul>
          {e.of.map((x) => (
            <li key={x.outcome}>
              <b className="num">{((100 * x.sets) / e.sets).toFixed(2)} %</b> of {e.sets.toLocaleString("en")} sets:{" "}
              {x.outcome}
            </li>
          ))}
          {(e.worst ?? []).slice(0, 5).map((x) => (
            <li key={x.lose.join()} className="text-soft">
              such as {x.lose.join(", ")}: {x.volumes?.join(", ")} {x.outcome}
            </li>
          ))}
        </ul>
      )}
    </Row>
  );
}
