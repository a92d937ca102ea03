import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ToggleGroup } from "radix-ui";
import { Link, NavLink, useNavigate, useParams, useSearchParams } from "react-router";
import { useCallback, useEffect, useRef, useState } from "react";
import { client, got, once, type S } from "../api/client";
import { useMe } from "../api/live";
import { clock, count } from "../parts/format";
import { useNear } from "../parts/near";
import { Ago, Empty, Failed, Mark, Tail, Title, Waiting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { Describe } from "./describe";
import { LightOthers, Lights } from "./lights";
import { HostMap, layers, useBays, type Layer } from "./drawing";

export default function BaysPage() {
  const { host } = useParams();
  const go = useNavigate();
  const [params] = useSearchParams();
  const room = params.get("room");
  const hosts = useQuery({ queryKey: ["hosts"], queryFn: () => got(client.GET("/hosts")) });
  const first = hosts.data?.[0]?.name;
  useEffect(() => {
    if (!host && room === null && first) void go(`/bays/${first}`, { replace: true });
  }, [host, room, first, go]);
  if (hosts.error) return <Failed what="The hosts" error={hosts.error} again={() => void hosts.refetch()} />;
  if (!hosts.data) return <Waiting />;
  if (!hosts.data.length) return <Empty>No host is enrolled yet. Begin with: lantern host enrol</Empty>;
  const here = room ?? hosts.data.find((h) => h.name === host)?.room;
  const rooms = [...new Set(hosts.data.map((h) => h.room ?? ""))]
    .filter(Boolean)
    .sort((a, b) => Number(b === here) - Number(a === here) || a.localeCompare(b));
  const inRoom = hosts.data.filter((h) => (h.room ?? "") === room);
  return (
    <>
      <nav aria-label="Rooms and hosts" className="mb-4 flex items-center gap-x-5 gap-y-2 overflow-x-auto">
        {[...rooms, ""].map((r) => {
          const there = hosts.data.filter((h) => (h.room ?? "") === r);
          return (
            there.length > 0 && (
              <span key={r} className="flex items-center gap-1">
                {r && (
                  <Link
                    to={`/bays?room=${encodeURIComponent(r)}`}
                    aria-current={r === room && !host ? "page" : undefined}
                    className={[
                      "button small whitespace-nowrap",
                      r === room && !host ? "bg-raised" : "border-line text-soft",
                    ].join(" ")}
                  >
                    all of {r}
                  </Link>
                )}
                {there.map((h) => (
                  <NavLink
                    key={h.name}
                    to={`/bays/${h.name}`}
                    className={({ isActive }) =>
                      `button small whitespace-nowrap ${isActive ? "bg-raised" : "border-line text-soft"}`
                    }
                  >
                    {h.name}
                    {h.state !== "reporting" && <span> ({h.state})</span>}
                  </NavLink>
                ))}
              </span>
            )
          );
        })}
      </nav>
      <Lights />
      {host ? (
        <Maps host={host} />
      ) : (
        room !== null &&
        (inRoom.length ? (
          <Room room={room} hosts={inRoom} />
        ) : (
          <Empty>
            No host stands in {room || "no room"}. Say where one does:{" "}
            <code>lantern host room &lt;name&gt; {JSON.stringify(room)}</code>
          </Empty>
        ))
      )}
    </>
  );
}

/** The layer of the map and the chosen bay are in the page's address. */
function useView() {
  const [params, setParams] = useSearchParams();
  const setter = useRef(setParams);
  setter.current = setParams;
  const set = useCallback(
    (name: string, value: string) =>
      setter.current(
        (was) => {
          const next = new URLSearchParams(was);
          next.set(name, value);
          return next;
        },
        { replace: true },
      ),
    [],
  );
  const choose = useCallback((address: string) => set("bay", address), [set]);
  const layer: Layer = layers.find((l) => l === params.get("layer")) ?? "verdict";
  return { layer, chosen: params.get("bay") ?? undefined, set, choose };
}

function Layers({ layer, set }: { layer: Layer; set: (name: string, value: string) => void }) {
  return (
    <ToggleGroup.Root
      type="single"
      value={layer}
      onValueChange={(v) => v && set("layer", v)}
      aria-label="What the map shows"
      className="inline-flex max-w-full overflow-x-auto rounded-lg border border-line"
    >
      {layers.map((l) => (
        <ToggleGroup.Item
          key={l}
          value={l}
          className={
            "min-h-10 rounded-md px-4 whitespace-nowrap text-soft " +
            "data-[state=on]:bg-raised data-[state=on]:text-ink"
          }
        >
          {l}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

/** Room draws every enclosure of every host in a room; a host is loaded shortly before it is visible. */
function Room({ room, hosts }: { room: string; hosts: S["Host"][] }) {
  const { layer, chosen, set, choose } = useView();
  const host = chosen?.split("/")[0];
  const map = useBays(host);
  const bay = map.data?.sections.flatMap((s) => s.bays).find((b) => b.address === chosen);
  return (
    <>
      <Title
        aside={`${count(hosts.length, "host")}, ${count(
          hosts.reduce((n, h) => n + h.drives, 0),
          "drive",
        )}`}
      >
        {room}
      </Title>
      <div className="grid items-start gap-6 lg:grid-cols-[1fr_19rem]">
        <div className="min-w-0 space-y-6">
          <Layers layer={layer} set={set} />
          {hosts.map((h) => (
            <Near key={h.name} host={h.name} bays={h.drives}>
              {(near) =>
                near && (
                  <RoomHost host={h.name} layer={layer} chosen={host === h.name ? chosen : undefined} choose={choose} />
                )
              }
            </Near>
          ))}
        </div>
        <Chosen bay={bay} />
      </div>
    </>
  );
}

/** Near tells its child when it is nearly visible, and reserves its space until then. */
function Near({ host, bays, children }: { host: string; bays: number; children: (near: boolean) => React.ReactNode }) {
  const at = useRef<HTMLElement>(null);
  const near = useNear(at);
  return (
    <section ref={at} aria-label={host} style={near ? undefined : { minHeight: `${Math.max(12, bays * 0.6)}rem` }}>
      {children(near)}
    </section>
  );
}

function RoomHost({
  host,
  layer,
  chosen,
  choose,
}: {
  host: string;
  layer: Layer;
  chosen?: string;
  choose: (address: string) => void;
}) {
  const map = useBays(host);
  if (map.error) return <Failed what={`The bays of ${host}`} error={map.error} again={() => void map.refetch()} />;
  if (!map.data) return <Waiting />;
  if (!map.data.sections.length)
    return (
      <Empty>
        {host} reports no bays.{" "}
        <Link className="underline" to={`/bays/${host}`}>
          Draw its enclosure
        </Link>
      </Empty>
    );
  return <HostMap host={host} sections={map.data.sections} layer={layer} chosen={chosen} choose={choose} />;
}

function Maps({ host }: { host: string }) {
  const map = useBays(host);
  const { layer, chosen, set, choose } = useView();
  const [drawing, setDrawing] = useState(false);
  if (map.error) return <Failed what={`The bays of ${host}`} error={map.error} again={() => void map.refetch()} />;
  if (!map.data) return <Waiting />;
  const bay = map.data.sections.flatMap((s) => s.bays).find((b) => b.address === chosen);
  const described = map.data.sections.some((s) => !s.told);
  return (
    <>
      <Title
        aside={
          <>
            {described && (
              <Link className="mr-4 underline" to={`/bays/${host}/survey`}>
                Start a survey
              </Link>
            )}
            seen <Ago at={map.data.seen_at} />
          </>
        }
      >
        Bays of {host}
      </Title>
      {map.data.parts?.some((p) => p.says) && (
        <ul className="sheet mb-4 divide-y divide-line">
          {map.data.parts
            .filter((p) => p.says)
            .map((p) => (
              <li
                key={p.type + p.name}
                className={`px-4 py-2.5 ${p.grave ? "border-l-4 border-l-replace font-semibold" : ""}`}
              >
                {p.says}
              </li>
            ))}
        </ul>
      )}
      {drawing ? (
        <Describe host={host} done={() => setDrawing(false)} />
      ) : map.data.sections.length === 0 ? (
        <Empty>
          {host} reports no bays. Its drives are known by their labels only:{" "}
          <Link className="underline" to={`/drives?host=${host}`}>
            see the list
          </Link>
          .{" "}
          <button className="button mt-4" onClick={() => setDrawing(true)}>
            Draw its enclosure
          </button>
        </Empty>
      ) : (
        <div className="grid items-start gap-6 lg:grid-cols-[1fr_19rem]">
          <div className="min-w-0 space-y-5">
            <Layers layer={layer} set={set} />
            <HostMap host={host} sections={map.data.sections} layer={layer} chosen={chosen} choose={choose} />
            <details className="sheet p-4">
              <summary className="cursor-pointer font-semibold">The same as a table</summary>
              <div tabIndex={0} role="region" aria-label="Bays as a table" className="mt-2 overflow-x-auto">
                <table className="plain">
                  <thead>
                    <tr>
                      <th>bay</th>
                      <th>drive</th>
                      <th>verdict</th>
                      <th>pool</th>
                      <th>says</th>
                    </tr>
                  </thead>
                  <tbody>
                    {map.data.sections
                      .flatMap((s) => s.bays)
                      .map((b) => (
                        <tr key={b.address}>
                          <td>
                            {b.address}
                            {b.lit && " (lit)"}
                          </td>
                          <td>
                            {b.drive ? (
                              <Tail tail={b.tail!} to={`/drives/${b.drive}`} />
                            ) : b.unknown ? (
                              "unknown"
                            ) : (
                              "empty"
                            )}
                            {b.missing && " (gone)"}
                            {b.how === "guessed" && " (a guess)"}
                          </td>
                          <td>{b.drive && <Mark verdict={b.verdict!} size={14} />}</td>
                          <td>{b.pool}</td>
                          <td>{b.says}</td>
                        </tr>
                      ))}
                  </tbody>
                </table>
              </div>
            </details>
          </div>
          <Chosen bay={bay} />
        </div>
      )}
    </>
  );
}

/** Guess says that the drive was not seen in this bay by a person, who can confirm it here. */
function Guess({ bay: b }: { bay: S["Bay"] }) {
  const tell = useTell();
  const queries = useQueryClient();
  const confirm = useMutation({
    mutationFn: () => got(client.POST("/spots", { params: once(), body: { bay: b.address, drive: b.drive } })),
    onSuccess: () => {
      tell(`${b.tail} is in ${b.address}, as you saw.`);
      void queries.invalidateQueries({ queryKey: ["bays"] });
    },
    onError: (e: Error) => tell(e.message, true),
  });
  return (
    <div className="space-y-2 rounded-md border border-dashed border-edge p-3">
      <p>
        <b>A guess.</b> It is attached to the port that belongs to this bay; not confirmed by a person. Confirm it
        before you pull the drive.
      </p>
      <button className="button w-full" disabled={confirm.isPending} onClick={() => confirm.mutate()}>
        I see {b.tail} here
      </button>
    </div>
  );
}

function Chosen({ bay: b }: { bay?: S["Bay"] }) {
  const me = useMe();
  const tell = useTell();
  const queries = useQueryClient();
  const done = () => void queries.invalidateQueries({ queryKey: ["bays"] });
  const light = useMutation({
    mutationFn: () => got(client.POST("/lights", { params: once(), body: { bay: b!.address, seconds: 600 } })),
    onSuccess: (l) => {
      tell(`Light of ${l.bay} ordered until ${clock(new Date(l.until))}. It goes out by itself.`);
      done();
    },
    onError: (e) => tell(e.message, true),
  });
  const dark = useMutation({
    mutationFn: async () => {
      const l = (await got(client.GET("/lights"))).find((x) => x.bay === b!.address);
      if (l) await got(client.DELETE("/lights/{id}", { params: { path: { id: l.id } } }));
    },
    onSuccess: done,
    onError: (e) => tell(e.message, true),
  });
  const hand = useMutation({
    mutationFn: (what: "pull" | "insert") => got(client.POST(`/lab/${what}`, { body: { bay: b!.address } })),
    onSuccess: (m, what) => {
      tell(what === "pull" ? `${m.tail} is out of ${m.bay}.` : `${m.tail} is in ${m.bay}.`);
      done();
    },
    onError: (e) => tell(e.message, true),
  });
  if (!b)
    return <p className="sheet p-4 text-soft">Choose a bay to see its drive, to light it, or to go to its page.</p>;
  return (
    <aside aria-label={`Bay ${b.address}`} className="sheet space-y-3 p-4 lg:sticky lg:top-[calc(var(--top)+1rem)]">
      <p className="text-lg font-semibold">{b.address}</p>
      {b.drive ? (
        <>
          <p>
            <Tail tail={b.tail!} to={`/drives/${b.drive}`} size="text-3xl" />
          </p>
          <p>
            <Mark verdict={b.verdict!} />
            {b.missing && " · does not answer"}
          </p>
          {b.how === "guessed" && <Guess bay={b} />}
          {b.says && (
            <p>
              {b.tail} {b.says}.
            </p>
          )}
          <p className="text-soft">
            {b.pool ? <Link to={`/pools/${encodeURIComponent(b.pool)}`}>{b.pool}</Link> : "in no pool"}
          </p>
          <Link className="button w-full" to={`/drives/${b.drive}`}>
            Open the drive
          </Link>
        </>
      ) : (
        <p className="text-soft">
          {b.unknown ? "Contents unknown: some drives of this host have no known bay yet." : "This bay is empty."}
        </p>
      )}
      {b.lit || b.lit_until ? (
        <>
          <p className="flex items-center gap-2">
            <span className="lit size-3 rounded-full bg-lamp ring-2 ring-lamp" />
            {b.lit ? "lit" : "light ordered"}
            {b.lit_until && ` until ${clock(new Date(b.lit_until))}`}
          </p>
          <button className="button w-full" onClick={() => dark.mutate()}>
            Switch the light off
          </button>
        </>
      ) : (
        <button className="button w-full" disabled={light.isPending} onClick={() => light.mutate()}>
          Light the bay for 10 min
        </button>
      )}
      {b.drive && <LightOthers drive={b.drive} tail={b.tail ?? ""} />}
      {me.data?.lab && (
        <div className="space-y-2 border-t border-line pt-3">
          <p className="text-sm text-soft">Hands, in the lab only</p>
          {b.drive && !b.missing ? (
            <button className="button small w-full" disabled={hand.isPending} onClick={() => hand.mutate("pull")}>
              Pull this drive
            </button>
          ) : (
            <button className="button small w-full" disabled={hand.isPending} onClick={() => hand.mutate("insert")}>
              Insert a drive that fits
            </button>
          )}
        </div>
      )}
    </aside>
  );
}
