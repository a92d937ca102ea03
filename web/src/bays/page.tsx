import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ToggleGroup } from "radix-ui";
import { Link, NavLink, useNavigate, useParams, useSearchParams } from "react-router";
import { useEffect, useState } from "react";
import { client, got, once, type S } from "../api/client";
import { useMe } from "../api/live";
import { clock } from "../parts/format";
import { Ago, Empty, Failed, Mark, Tail, Title, Waiting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { Describe } from "./describe";
import { layers, SectionMap, useBays, type Layer } from "./drawing";

export default function BaysPage() {
  const { host } = useParams();
  const go = useNavigate();
  const hosts = useQuery({ queryKey: ["hosts"], queryFn: () => got(client.GET("/hosts")) });
  const first = hosts.data?.[0]?.name;
  useEffect(() => {
    if (!host && first) void go(`/bays/${first}`, { replace: true });
  }, [host, first, go]);
  if (hosts.error) return <Failed what="The hosts" error={hosts.error} again={() => void hosts.refetch()} />;
  if (!hosts.data) return <Waiting />;
  if (!hosts.data.length) return <Empty>No host is enrolled yet. Begin with: lantern host enrol</Empty>;
  return (
    <>
      <nav aria-label="Hosts" className="mb-4 flex gap-1 overflow-x-auto">
        {hosts.data.map((h) => (
          <NavLink key={h.name} to={`/bays/${h.name}`} className={({ isActive }) => `button small ${isActive ? "bg-raised" : "border-line text-soft"}`}>{h.name}{h.state !== "reporting" && <span> ({h.state})</span>}</NavLink>
        ))}
      </nav>
      {host && <Maps host={host} />}
    </>
  );
}

function Maps({ host }: { host: string }) {
  const [params, setParams] = useSearchParams();
  const map = useBays(host);
  const layer: Layer = layers.find((l) => l === params.get("layer")) ?? "verdict";
  const chosen = params.get("bay") ?? undefined;
  const [drawing, setDrawing] = useState(false);
  const set = (name: string, value: string) => setParams((was) => {
    const next = new URLSearchParams(was);
    next.set(name, value);
    return next;
  }, { replace: true });
  if (map.error) return <Failed what={`The bays of ${host}`} error={map.error} again={() => void map.refetch()} />;
  if (!map.data) return <Waiting />;
  const bay = map.data.sections.flatMap((s) => s.bays).find((b) => b.address === chosen);
  const described = map.data.sections.some((s) => !s.told);
  return (
    <>
      <Title aside={<>{described && <Link className="mr-4 underline" to={`/bays/${host}/survey`}>Walk before it</Link>}seen <Ago at={map.data.seen_at} /></>}>Bays of {host}</Title>
      {map.data.parts?.some((p) => p.says) && <ul className="sheet mb-4 divide-y divide-line">{map.data.parts.filter((p) => p.says).map((p) => <li key={p.type + p.name} className={`px-4 py-2.5 ${p.grave ? "border-l-4 border-l-replace font-semibold" : ""}`}>{p.says}</li>)}</ul>}
      {drawing ? <Describe host={host} done={() => setDrawing(false)} /> : map.data.sections.length === 0 ? <Empty>{host} has told of no bays. Its drives are known by their labels only: <Link className="underline" to={`/drives?host=${host}`}>see the list</Link>. <button className="button mt-4" onClick={() => setDrawing(true)}>Draw its enclosure</button></Empty> : (
        <div className="grid items-start gap-6 lg:grid-cols-[1fr_19rem]">
          <div className="min-w-0 space-y-5">
            <ToggleGroup.Root type="single" value={layer} onValueChange={(v) => v && set("layer", v)} aria-label="What the map shows" className="inline-flex rounded-lg border border-line">
              {layers.map((l) => <ToggleGroup.Item key={l} value={l} className="min-h-10 rounded-md px-4 text-soft data-[state=on]:bg-raised data-[state=on]:text-ink">{l}</ToggleGroup.Item>)}
            </ToggleGroup.Root>
            {map.data.sections.map((s) => <SectionMap key={s.name} host={host} section={s} layer={layer} chosen={chosen} choose={(b) => set("bay", b.address)} />)}
            <details className="sheet p-4"><summary className="cursor-pointer font-semibold">The same as a table</summary>
              <div tabIndex={0} role="region" aria-label="Bays as a table" className="mt-2 overflow-x-auto"><table className="plain"><thead><tr><th>bay</th><th>drive</th><th>verdict</th><th>pool</th><th>says</th></tr></thead>
                <tbody>{map.data.sections.flatMap((s) => s.bays).map((b) => <tr key={b.address}><td>{b.address}{b.lit && " (lit)"}</td><td>{b.drive ? <Tail tail={b.tail!} to={`/drives/${b.drive}`} /> : b.unknown ? "unknown" : "empty"}{b.missing && " (gone)"}{b.how === "guessed" && " (a guess)"}</td><td>{b.drive && <Mark verdict={b.verdict!} size={14} />}</td><td>{b.pool}</td><td>{b.says}</td></tr>)}</tbody></table></div>
            </details>
          </div>
          <Chosen bay={bay} />
        </div>
      )}
    </>
  );
}

/** Guess says that nobody saw the drive in this bay, and lets who sees it say so. */
function Guess({ bay: b }: { bay: S["Bay"] }) {
  const tell = useTell();
  const queries = useQueryClient();
  const confirm = useMutation({
    mutationFn: () => got(client.POST("/spots", { params: once(), body: { bay: b.address, drive: b.drive } })),
    onSuccess: () => { tell(`${b.tail} is in ${b.address}, as you saw.`); void queries.invalidateQueries({ queryKey: ["bays"] }); },
    onError: (e: Error) => tell(e.message, true),
  });
  return (
    <div className="space-y-2 rounded-md border border-dashed border-edge p-3">
      <p><b>A guess.</b> It hangs on the port that belongs to this bay; nobody has seen it here. Do not pull it before you have.</p>
      <button className="button w-full" disabled={confirm.isPending} onClick={() => confirm.mutate()}>I see {b.tail} here</button>
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
    onSuccess: (l) => { tell(`Bay ${l.bay} was asked to be lit until ${clock(new Date(l.until))}. It goes out by itself.`); done(); },
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
    onSuccess: (m, what) => { tell(what === "pull" ? `${m.tail} is out of ${m.bay}.` : `${m.tail} is in ${m.bay}.`); done(); },
    onError: (e) => tell(e.message, true),
  });
  if (!b) return <p className="sheet p-4 text-soft">Choose a bay to see its drive, to light it, or to go to its page.</p>;
  return (
    <aside aria-label={`Bay ${b.address}`} className="sheet space-y-3 p-4 lg:sticky lg:top-4">
      <p className="text-lg font-semibold">{b.address}</p>
      {b.drive ? (
        <>
          <p><Tail tail={b.tail!} to={`/drives/${b.drive}`} size="text-3xl" /></p>
          <p><Mark verdict={b.verdict!} />{b.missing && " · does not answer"}</p>
          {b.how === "guessed" && <Guess bay={b} />}
          {b.says && <p>{b.tail} {b.says}.</p>}
          <p className="text-soft">{b.pool ? <Link to={`/pools/${b.pool}`}>{b.pool}</Link> : "in no pool"}</p>
          <Link className="button w-full" to={`/drives/${b.drive}`}>Open the drive</Link>
        </>
      ) : <p className="text-soft">{b.unknown ? "Nobody knows what is in this bay: some drives of this host have no known bay yet." : "This bay is empty."}</p>}
      {b.lit || b.lit_until ? (
        <>
          <p className="flex items-center gap-2"><span className="lit size-3 rounded-full bg-lamp ring-2 ring-lamp" />{b.lit ? "lit" : "asked to be lit"}{b.lit_until && ` until ${clock(new Date(b.lit_until))}`}</p>
          <button className="button w-full" onClick={() => dark.mutate()}>Put the light out</button>
        </>
      ) : <button className="button w-full" disabled={light.isPending} onClick={() => light.mutate()}>Light the bay for 10 min</button>}
      {me.data?.lab && (
        <div className="space-y-2 border-t border-line pt-3">
          <p className="text-sm text-soft">Hands, in the lab only</p>
          {b.drive && !b.missing ? <button className="button small w-full" disabled={hand.isPending} onClick={() => hand.mutate("pull")}>Pull this drive</button> : <button className="button small w-full" disabled={hand.isPending} onClick={() => hand.mutate("insert")}>Insert a drive that fits</button>}
        </div>
      )}
    </aside>
  );
}
