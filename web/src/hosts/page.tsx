import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { client, got, once, type S } from "../api/client";
import { useMe } from "../api/live";
import { Command } from "../parts/command";
import { Rename, useDo } from "../parts/do";
import { AskReason } from "../parts/reason";
import { count, decimal, exact } from "../parts/format";
import { Ago, Failed, Title, Waiting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { Describe } from "../bays/describe";
import { save } from "../parts/csv";
import { Asking } from "./asking";
import { Enrol } from "./enrol";
import { Welcome } from "../round/welcome";
import { Controller } from "./controller";

const words: Record<S["Host"]["state"], string> = {
  reporting: "reports",
  quiet: "does not report: its drives are unknown",
  never: "no report has come yet",
};

/** Hosts lists the hosts with their state, and problems of their reports. */
export default function HostsPage() {
  const q = useQuery({ queryKey: ["hosts"], queryFn: () => got(client.GET("/hosts")) });
  const me = useMe();
  if (q.error) return <Failed what="The list of hosts" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting rows={4} />;
  const hosts = q.data;
  const quiet = hosts.filter((h) => h.state !== "reporting").length;
  return (
    <>
      <Title
        aside={
          hosts.length === 0
            ? "none enrolled yet"
            : `${hosts.length} enrolled, ${quiet ? `${quiet} not reporting` : "all reporting"}`
        }
      >
        Hosts
      </Title>
      {hosts.length === 0 && <Welcome />}
      <ul className="space-y-2.5">
        {hosts.map((h) => (
          <Host key={h.name} host={h} />
        ))}
      </ul>
      {me.data?.role === "admin" && hosts.length > 0 && <Enrol />}
      <Asking />
    </>
  );
}

function Host({ host: h }: { host: S["Host"] }) {
  const queries = useQueryClient();
  const tell = useTell();
  const [room, setRoom] = useState<string | null>(null);
  const keep = (fresh: S["Host"]) => {
    queries.setQueryData<S["Host"][]>(["hosts"], (all) => all?.map((x) => (x.name === fresh.name ? fresh : x)));
  };
  const move = useMutation({
    mutationFn: (to: string) =>
      got(client.PUT("/hosts/{host}/room", { params: { path: { host: h.name } }, body: { room: to } })),
    onSuccess: (fresh) => {
      keep(fresh);
      setRoom(null);
    },
    onError: (e) => tell(e.message, true),
  });
  const cold = useMutation({
    mutationFn: (to: boolean) =>
      got(client.PUT("/hosts/{host}/cold", { params: { path: { host: h.name } }, body: { cold: to } })),
    onSuccess: keep,
    onError: (e) => tell(e.message, true),
  });
  const me = useMe().data;
  const act = useDo("hosts", "bays", "round");
  const path = { params: { path: { host: h.name }, ...once() } };
  const off = h.clock_off_seconds ?? 0;
  return (
    <li className={`sheet space-y-2 p-4 ${h.state === "reporting" ? "" : "border-watch"}`}>
      <p className="flex flex-wrap items-baseline gap-x-4">
        <Link to={`/bays/${encodeURIComponent(h.name)}`} className="text-lg font-semibold">
          {h.name}
        </Link>
        <span className={h.state === "reporting" ? "text-soft" : "font-semibold"}>{words[h.state]}</span>
        <span className="text-soft">
          last report <Ago at={h.seen_at} />
        </span>
        <span className="text-soft">
          <Link to={`/drives?host=${encodeURIComponent(h.name)}`} className="underline underline-offset-2">
            {count(h.drives, "drive")}
          </Link>
        </span>
      </p>
      {h.agent && (
        <p className="text-soft">
          {h.agent.version ? `agent ${h.agent.version}, ` : "its agent "}runs since{" "}
          {exact(new Date(h.agent.started_at))}
          {h.agent.waiting > 0 && `, ${h.agent.waiting} reports could not be delivered yet`}
          {h.formerly && h.formerly.length > 0 && `; it was called ${h.formerly.join(", ")} before`}
        </p>
      )}
      {h.agent?.error && h.agent.error_at && Date.now() - Date.parse(h.agent.error_at) < 24 * 3600e3 && (
        <p>
          Its agent failed at {exact(new Date(h.agent.error_at))}: {h.agent.error}
        </p>
      )}
      {h.state === "quiet" && me?.role === "admin" && (
        <div className="flex flex-wrap items-center gap-3 text-soft">
          <span>If it is gone for good:</span>
          <AskReason
            title={`Retire ${h.name}`}
            ask="Reason, for the record"
            go={`Retire ${h.name}`}
            onReason={(reason) =>
              act.mutate({
                ask: () => got(client.POST("/hosts/{host}/retire", { ...path, body: { reason } })),
                says: `${h.name} is retired. What was known of it stays.`,
              })
            }
          >
            <p>Its token ends, its drives are listed as gone, and its pools are removed from the lists.</p>
            <Command line={`lantern host retire ${h.name} --reason "..."`} />
          </AskReason>
        </div>
      )}
      {Math.abs(off) > 30 && h.state === "reporting" && (
        <p>
          Its clock is {Math.round(Math.abs(off))} s {off > 0 ? "ahead" : "behind"}; times in its reports are corrected.
        </p>
      )}
      {h.refused && h.refused.count > 0 && (
        <p>
          {h.refused.count === 1 ? "1 of its reports was" : `${h.refused.count} of its reports were`} refused, the last
          at {exact(new Date(h.refused.at))}: {h.refused.says}
        </p>
      )}
      {h.nameless?.map((n) => (
        <p key={n.path}>
          {n.path}, {decimal(n.capacity_bytes)}, is not monitored: {n.says}
        </p>
      ))}
      <form
        className="flex flex-wrap items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          move.mutate((room ?? "").trim());
        }}
      >
        <label className="flex items-center gap-2 text-soft">
          Room
          <input
            className="field w-44"
            value={room ?? h.room ?? ""}
            placeholder="none"
            onChange={(e) => setRoom(e.target.value)}
          />
        </label>
        {room !== null && room !== (h.room ?? "") && (
          <button className="button main" disabled={move.isPending}>
            Keep
          </button>
        )}
        <label className="flex min-h-11 items-center gap-2 text-soft">
          <input
            type="checkbox"
            checked={!!h.cold}
            disabled={cold.isPending}
            onChange={(e) => cold.mutate(e.target.checked)}
          />
          drives are changed only while it is down
        </label>
      </form>
      <details>
        <summary className="min-h-8 cursor-pointer text-soft">Name, enclosures and report</summary>
        <div className="mt-2 space-y-3">
          {me?.role === "admin" && (
            <Rename
              what="Name"
              is={h.name}
              busy={act.isPending}
              keep={(name) =>
                act.mutate({
                  ask: () => got(client.PUT("/hosts/{host}/name", { ...path, body: { name } })),
                  says: `${h.name} is called ${name} from now on. Its agent goes on as it is.`,
                })
              }
            />
          )}
          <Layouts host={h.name} />
          <Controller host={h} admin={me?.role === "admin"} />
          <Link to={`/story/host/${encodeURIComponent(h.name)}`} className="underline underline-offset-2">
            What happened on {h.name}
          </Link>
        </div>
      </details>
    </li>
  );
}

/** Layouts are the enclosures of a host that people have described. */
function Layouts({ host }: { host: string }) {
  const q = useQuery({
    queryKey: ["hosts", host, "layouts"],
    queryFn: () => got(client.GET("/hosts/{host}/layouts", { params: { path: { host } } })),
  });
  const all = useQuery({ queryKey: ["hosts"], queryFn: () => got(client.GET("/hosts")) }).data ?? [];
  const others = all.map((h) => h.name).filter((name) => name !== host);
  const own = (q.data ?? []).filter((l) => !l.told);
  return own.map((l) => <Described key={l.name} host={host} layout={l} others={others} />);
}

function Described({ host, layout: l, others }: { host: string; layout: S["Layout"]; others: string[] }) {
  const act = useDo("hosts", "bays");
  const [to, setTo] = useState("");
  const [changing, setChanging] = useState(false);
  const path = { params: { path: { host, name: l.name }, ...once() } };
  const drawn = l.sections.every((s) => !Object.keys(s.bays ?? {}).length);
  if (changing) return <Describe host={host} is={l} done={() => setChanging(false)} />;
  return (
    <div className="flex flex-wrap items-center gap-3">
      <span>
        <b>{l.name}</b>{" "}
        <span className="text-soft">
          described: {l.sections.map((s) => `${s.name} ${s.rows} × ${s.columns}`).join(", ")}
        </span>
      </span>
      <label className="flex items-center gap-2 text-soft">
        moved to
        <select className="field w-auto" value={to} onChange={(e) => setTo(e.target.value)}>
          <option value="">another host</option>
          {others.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
      </label>
      {to && (
        <button
          className="button small main"
          disabled={act.isPending}
          onClick={() =>
            act.mutate({
              ask: () => got(client.POST("/hosts/{host}/layouts/{name}/move", { ...path, body: { name: to } })),
              says: `${l.name} is on ${to}. Which drive is in which bay is a guess there until somebody looks.`,
              then: () => setTo(""),
            })
          }
        >
          It is on {to} now
        </button>
      )}
      {drawn ? (
        <button className="button small" onClick={() => setChanging(true)}>
          Change {l.name}
        </button>
      ) : (
        <span className="text-soft">its bays follow no pattern: change the exported file</span>
      )}
      <button
        className="button small"
        onClick={() =>
          save(
            `${host}-${l.name}.json`,
            JSON.stringify({ name: l.name, sections: l.sections }, null, 2),
            "application/json",
          )
        }
      >
        Export
      </button>
      <button
        className="button small"
        disabled={act.isPending}
        onClick={() =>
          act.mutate({
            ask: () => got(client.DELETE("/hosts/{host}/layouts/{name}", path)),
            says: `${l.name} of ${host} is no longer described.`,
          })
        }
      >
        Remove the description
      </button>
      <Command line={`lantern enclosure export ${host} ${l.name}`} />
    </div>
  );
}
