import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, once, type S } from "../api/client";
import { Command } from "../parts/command";
import { exact } from "../parts/format";
import { Tail } from "../parts/parts";
import { useTell } from "../parts/toast";

type Kind = NonNullable<S["TestOrder"]["kind"]>;

const kinds: Record<Kind, string> = {
  short: "short: a few minutes",
  extended: "extended: the whole surface, hours to days",
  conveyance: "conveyance: for damage in transport",
  selective: "selective: a range of addresses",
};

/** said makes one sentence of the results of all drives. */
export function said(all: S["TestRun"][]): { says: string; bad: boolean } {
  const refused = all.filter((r) => r.state === "refused");
  if (all.length === 0) return { says: "No test was started: nothing here can be tested.", bad: true };
  if (all.length === 1) {
    const [r] = all as [S["TestRun"]];
    return {
      says: r.state === "refused" ? `${r.tail} is not tested now: ${r.says}.` : `${r.tail}: ${r.says}.`,
      bad: r.state === "refused",
    };
  }
  const first = refused[0];
  return {
    says:
      `${all.length - refused.length} of ${all.length} tests are ordered.` +
      (first ? ` ${refused.length} refused, the first: ${first.tail}, ${first.says}.` : ""),
    bad: refused.length > 0,
  };
}

/** StartTest orders self-tests of one drive, of a pool or of a host; of pools and hosts one of a group at a time. */
export function StartTest({ drive }: { drive?: S["Drive"] }) {
  const tell = useTell();
  const queries = useQueryClient();
  const [kind, setKind] = useState<Kind>(drive ? "conveyance" : "short");
  const [of, setOf] = useState("");
  const [where, setWhere] = useState("");
  const [first, setFirst] = useState("0");
  const [last, setLast] = useState("");
  const [wake, setWake] = useState(false);
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => got(client.GET("/pools")), enabled: !drive });
  const hosts = useQuery({ queryKey: ["hosts"], queryFn: () => got(client.GET("/hosts")), enabled: !drive });
  const [what = "", name = ""] = of.split(/:(.*)/);
  const span = kind === "selective";
  const ready = (drive || of || where.trim()) && (!span || (first !== "" && last !== ""));
  const start = useMutation({
    mutationFn: () =>
      got(
        client.POST("/selftests", {
          params: once(),
          body: {
            kind,
            wake: wake || undefined,
            ...(drive
              ? { drive: drive.key }
              : { [what || "host"]: name || undefined, where: where.trim() || undefined }),
            ...(span ? { first_lba: Number(first), last_lba: Number(last) } : {}),
          },
        }),
      ),
    onSuccess: (all) => {
      const { says, bad } = said(all);
      tell(says, bad);
      for (const key of ["drive", "selftests", "calendar"]) void queries.invalidateQueries({ queryKey: [key] });
    },
    onError: (e: Error) => tell(e.message, true),
  });
  const line =
    "lantern selftest start" +
    (drive ? ` ${drive.tail}` : name ? ` --${what} ${name}` : "") +
    (where.trim() && !drive ? ` --where '${where.trim()}'` : "") +
    ` --kind ${kind}` +
    (span ? ` --span ${first || "FIRST"}-${last || "LAST"}` : "") +
    (wake ? " --wake" : "");
  return (
    <form
      className="space-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        if (ready) start.mutate();
      }}
    >
      <div className="flex flex-wrap items-end gap-3">
        {!drive && (
          <>
            <label>
              <span className="mb-1 block text-sm text-soft">Drives of</span>
              <select className="field" value={of} onChange={(e) => setOf(e.target.value)}>
                <option value="">choose a pool or a host</option>
                <optgroup label="Pools">
                  {pools.data?.map((p) => (
                    <option key={p.id} value={`pool:${p.name}`}>
                      {p.name}
                    </option>
                  ))}
                </optgroup>
                <optgroup label="Hosts">
                  {hosts.data?.map((h) => (
                    <option key={h.name} value={`host:${h.name}`}>
                      {h.name}
                    </option>
                  ))}
                </optgroup>
              </select>
            </label>
            <label>
              <span className="mb-1 block text-sm text-soft">Only drives with (may be empty)</span>
              <input
                className="field font-mono"
                placeholder="power_on_hours>40000"
                value={where}
                onChange={(e) => setWhere(e.target.value)}
              />
            </label>
          </>
        )}
        <label>
          <span className="mb-1 block text-sm text-soft">Test</span>
          <select className="field" value={kind} onChange={(e) => setKind(e.target.value as Kind)}>
            {Object.entries(kinds).map(([k, says]) => (
              <option key={k} value={k}>
                {says}
              </option>
            ))}
          </select>
        </label>
        {span && (
          <>
            <label>
              <span className="mb-1 block text-sm text-soft">First address</span>
              <input
                className="field num w-40"
                inputMode="numeric"
                pattern="[0-9]+"
                value={first}
                onChange={(e) => setFirst(e.target.value)}
              />
            </label>
            <label>
              <span className="mb-1 block text-sm text-soft">Last address</span>
              <input
                className="field num w-40"
                inputMode="numeric"
                pattern="[0-9]+"
                value={last}
                onChange={(e) => setLast(e.target.value)}
              />
            </label>
          </>
        )}
        <label className="flex min-h-10 items-center gap-2">
          <input type="checkbox" checked={wake} onChange={(e) => setWake(e.target.checked)} /> wake sleeping drives
        </label>
        <button className="button" disabled={start.isPending || !ready}>
          Start the test
        </button>
      </div>
      {ready && <Command line={line} />}
    </form>
  );
}

/** Now starts self-tests beside the plans, and lists those that were ordered. */
export function Now() {
  const runs = useQuery({ queryKey: ["selftests"], queryFn: () => got(client.GET("/selftests")) });
  const queries = useQueryClient();
  const tell = useTell();
  const stop = useMutation({
    mutationFn: (drive: string) => got(client.POST("/selftests/stop", { params: once(), body: { drive } })),
    onSuccess: (all) => tell(all[0] ? `${all[0].tail}: ${all[0].says}.` : "No test that was started here is running."),
    onError: (e: Error) => tell(e.message, true),
    onSettled: () => void queries.invalidateQueries({ queryKey: ["selftests"] }),
  });
  const list = runs.data ?? [];
  return (
    <section aria-labelledby="now" className="my-8 space-y-3">
      <h2 id="now">Test now</h2>
      <StartTest />
      {list.length > 0 && (
        <details className="sheet p-4">
          <summary className="min-h-8 cursor-pointer font-semibold">
            Ordered tests: {list.filter((r) => r.state === "running" || r.state === "ordered").length} under way,{" "}
            {list.length} in all
          </summary>
          <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Ordered tests">
            <table className="plain">
              <thead>
                <tr>
                  <th>drive</th>
                  <th>bay</th>
                  <th>pool</th>
                  <th>test</th>
                  <th>state</th>
                  <th>ordered</th>
                  <th>by</th>
                  <th />
                </tr>
              </thead>
              <tbody>
                {list.slice(0, 200).map((r) => (
                  <tr key={r.id}>
                    <td>
                      <Tail tail={r.tail} to={`/drives/${r.drive}`} />
                    </td>
                    <td>{r.bay}</td>
                    <td>{r.pool}</td>
                    <td>{r.kind}</td>
                    <td>
                      {r.state}: {r.says}
                    </td>
                    <td className="num">{exact(new Date(r.ordered_at)).slice(0, 16)}</td>
                    <td>{r.plan ? `plan ${r.plan}` : r.by}</td>
                    <td>
                      {(r.state === "running" || r.state === "ordered") && (
                        <button className="button small" disabled={stop.isPending} onClick={() => stop.mutate(r.drive)}>
                          Stop
                        </button>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            {list.length > 200 && (
              <p className="text-sm text-soft">
                The newest 200. All: <code>lantern selftest show</code>
              </p>
            )}
          </div>
        </details>
      )}
    </section>
  );
}
