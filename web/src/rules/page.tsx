import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import { client, got, type S } from "../api/client";
import { exact, number } from "../parts/format";
import { Failed, Mark, Title, Waiting } from "../parts/parts";
import { useTell } from "../parts/toast";

export default function RulesPage() {
  const q = useQuery({ queryKey: ["rules"], queryFn: () => got(client.GET("/rules")) });
  if (q.error) return <Failed what="The rules" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting rows={6} />;
  return (
    <>
      <Title>Why drives are flagged</Title>
      <p className="mb-6 max-w-3xl text-soft">
        Strong evidence can lead to the verdict replace. Weak evidence leads to watch at most, however much of it there
        is. How fast a number grows matters more than what it is.
      </p>
      <section aria-labelledby="built" className="mb-8">
        <h2 id="built" className="mb-2">
          Built-in rules
        </h2>
        <ul className="sheet divide-y divide-line">
          {q.data.rules.map((r) => (
            <Rule key={r.id} rule={r} thresholds={q.data.thresholds} />
          ))}
        </ul>
      </section>
      <Own rules={q.data} />
      <section aria-labelledby="limits">
        <h2 id="limits" className="mb-2">
          Thresholds
        </h2>
        <ul className="sheet divide-y divide-line">
          {q.data.thresholds.map((t) => (
            <Threshold key={t.name} threshold={t} />
          ))}
        </ul>
      </section>
    </>
  );
}

function useChange<T>(f: (v: T) => Promise<unknown>) {
  const queries = useQueryClient();
  const tell = useTell();
  return useMutation({
    mutationFn: f,
    onSuccess: () => {
      for (const k of ["rules", "round", "drives", "drive"]) void queries.invalidateQueries({ queryKey: [k] });
    },
    onError: (e: Error) => tell(e.message, true),
  });
}

function Rule({ rule: r, thresholds }: { rule: S["Rule"]; thresholds: S["Threshold"][] }) {
  const turn = useChange((on: boolean) =>
    got(client.PUT("/rules/{id}", { params: { path: { id: r.id } }, body: { on } })),
  );
  const used = thresholds.filter((t) => r.when.includes(t.name));
  return (
    <li>
      <details className="group">
        <summary className="grid min-h-11 cursor-pointer grid-cols-[7rem_1fr_auto] items-center gap-x-4 px-4 py-2">
          {r.level === "sound" ? (
            <span className="text-soft">a remark</span>
          ) : r.holds_as ? (
            <Mark verdict={r.holds_as} />
          ) : (
            <span className="text-soft">up to {r.level}</span>
          )}
          <span className={r.on ? "" : "text-soft line-through"}>{r.title}</span>
          <span className="num text-soft">
            {r.holds_for ? <b className="text-ink">holds for {r.holds_for}</b> : ""}
          </span>
        </summary>
        <dl className="grid gap-x-4 gap-y-1.5 px-4 pb-4 sm:grid-cols-[7rem_1fr]">
          <dt className="text-soft">For</dt>
          <dd>
            {r.for}; evidence: {r.strength}
          </dd>
          <dt className="text-soft">Holds when</dt>
          <dd>
            {r.when}
            {used.length > 0 && (
              <span className="block text-soft">
                {used.map((t) => `${t.name}: ${number(t.value)} ${t.unit}`).join("; ")}
              </span>
            )}
          </dd>
          <dt className="text-soft">Why</dt>
          <dd>{r.why}</dd>
          <dt className="text-soft">To do</dt>
          <dd>{r.do}</dd>
          {r.hold_seconds > 0 && (
            <>
              <dt className="text-soft">Stays</dt>
              <dd>
                {r.hold_seconds >= 172800
                  ? `${Math.round(r.hold_seconds / 86400)} days`
                  : `${Math.round(r.hold_seconds / 3600)} h`}{" "}
                after it was last true
              </dd>
            </>
          )}
          <dt className="text-soft">Rule</dt>
          <dd className="flex flex-wrap items-center gap-3">
            <code>{r.id}</code>
            <button className="button" disabled={turn.isPending} onClick={() => turn.mutate(!r.on)}>
              {r.on ? "Switch it off" : "Switch it on"}
            </button>
          </dd>
        </dl>
      </details>
    </li>
  );
}

/** Scope chooses the drives that a threshold is for: all, or those of a model or of a pool. */
function Scope({ value, set }: { value: string; set: (v: string) => void }) {
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => got(client.GET("/pools")) });
  const rates = useQuery({
    queryKey: ["failures", "model", "replace"],
    queryFn: () => got(client.GET("/failures", { params: { query: { by: "model" } } })),
    staleTime: Infinity,
  });
  return (
    <label className="flex flex-wrap items-center gap-2 text-sm text-soft">
      For
      <select className="field w-auto" value={value} onChange={(e) => set(e.target.value)}>
        <option value="">all drives</option>
        <optgroup label="Drives of a pool">
          {pools.data?.map((p) => (
            <option key={p.id} value={`pool:${p.name}`}>
              {p.name}
            </option>
          ))}
        </optgroup>
        <optgroup label="Drives of a model">
          {rates.data?.groups.map((r) => (
            <option key={r.name} value={`model:${r.name}`}>
              {r.name}
            </option>
          ))}
        </optgroup>
      </select>
    </label>
  );
}

function Threshold({ threshold: t }: { threshold: S["Threshold"] }) {
  const [value, setValue] = useState<string | null>(null);
  const [scope, setScope] = useState("");
  const wanted = useDeferredValue(value);
  const [of, name] = scope.split(/:(.*)/);
  const only = of === "model" ? { model: name } : of === "pool" ? { pool: name } : {};
  const own = t.others?.find((o) => (o.model ?? "") === (only.model ?? "") && (o.pool ?? "") === (only.pool ?? ""));
  const now = scope ? (own?.value ?? t.value) : t.value;
  const changed = value !== null && value.trim() !== "" && !Number.isNaN(Number(value)) && Number(value) !== now;
  const tried = useQuery({
    queryKey: ["rules", "try", t.name, Number(wanted), scope],
    queryFn: () =>
      got(client.POST("/rules/thresholds/try", { body: { name: t.name, value: Number(wanted), ...only } })),
    enabled: changed,
    refetchInterval: false,
    staleTime: Infinity,
    retry: false,
    placeholderData: (was) => was,
  });
  const set = useChange(async (v: { value?: number; usual?: boolean }) => {
    await got(client.PUT("/rules/thresholds", { body: { name: t.name, ...only, ...v } }));
    setValue(null);
    setScope("");
  });
  return (
    <li className="grid items-center gap-x-4 gap-y-1 px-4 py-2 sm:grid-cols-[1fr_16rem]">
      <span>
        {t.means}
        <span className="block text-sm text-soft">
          <code>{t.name}</code>
          {t.others?.map((o, i) => (
            <span key={i}>
              {" "}
              · {[o.model, o.pool].filter(Boolean).join(" ")}: <b className="text-ink">{number(o.value)}</b>
            </span>
          ))}
        </span>
      </span>
      <form
        className="flex items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          set.mutate({ value: Number(value) });
        }}
      >
        <label className="flex grow items-center gap-2">
          <span className="sr-only">{t.name}</span>
          <input
            className="field num w-24"
            inputMode="decimal"
            value={value ?? number(t.value).replaceAll(",", "")}
            onChange={(e) => setValue(e.target.value)}
          />
          <span className="text-sm text-soft">{t.unit}</span>
        </label>
        {changed && (
          <button className="button main" disabled={set.isPending || !tried.data || tried.isFetching}>
            Set
          </button>
        )}
        {value === null && t.value !== t.usual && (
          <button type="button" className="button" onClick={() => set.mutate({ usual: true })}>
            Back to {number(t.usual)}
          </button>
        )}
      </form>
      {value !== null && (
        <div className="col-span-full space-y-2 pt-2" aria-live="polite">
          <Scope value={scope} set={setScope} />
          {own && (
            <button type="button" className="button small" onClick={() => set.mutate({ usual: true })}>
              Remove the value for {name}
            </button>
          )}
          <input
            type="range"
            aria-label={`${t.name}, ${number(t.least)} to ${number(t.most)}`}
            className="w-full max-w-xl accent-accent"
            min={t.least}
            max={Math.min(t.most, Math.max(4 * t.usual, 2 * t.value, t.least + 1))}
            step={t.usual >= 10 || Number.isInteger(t.usual) ? 1 : t.usual / 50}
            value={Number(value) || t.least}
            onChange={(e) => setValue(e.target.value)}
          />
          {changed && <Preview tried={tried.data} error={tried.error} value={Number(value)} />}
          <button type="button" className="button small" onClick={() => setValue(null)}>
            Leave it at {number(t.value)}
          </button>
        </div>
      )}
    </li>
  );
}

/** Preview lists what a threshold would flag before it is set. */
function Preview({ tried, error, value }: { tried?: S["ThresholdTried"]; error: Error | null; value: number }) {
  if (error) return <p role="alert">{error.message}</p>;
  if (!tried) return <p className="text-soft">Trying it on the last 90 days…</p>;
  const now = tried.flagged.filter((f) => f.now);
  const graver = now.filter((f) => f.would === "replace" && f.verdict !== "replace" && f.verdict !== "dead");
  return (
    <div className="text-sm">
      <p>
        At {number(value)}, <b>{now.length}</b> of {tried.drives} drives would be flagged now, {tried.flagged.length} at
        some time in the last 90 days.{" "}
        {graver.length > 0 && (
          <b className="text-replace">
            {graver.length} that {graver.length === 1 ? "is" : "are"} not flagged now would get the verdict replace.
          </b>
        )}
      </p>
      <ul className="mt-1 flex max-h-40 flex-wrap gap-x-4 gap-y-1 overflow-y-auto">
        {tried.flagged.slice(0, 60).map((f) => (
          <li key={f.drive} className="whitespace-nowrap">
            <Link to={`/drives/${f.drive}`} className="tail">
              {f.tail}
            </Link>{" "}
            <span className="text-soft">
              {f.verdict} → {f.now ? f.would : `${f.would} until ${exact(new Date(f.last))}`}
            </span>
          </li>
        ))}
        {tried.flagged.length > 60 && <li className="text-soft">and {tried.flagged.length - 60} more</li>}
      </ul>
    </div>
  );
}

/** Own tries a rule on past readings before it is stored. */
function Own({ rules }: { rules: S["Rules"] }) {
  const [expression, setExpression] = useState("");
  const [name, setName] = useState("");
  const [says, setSays] = useState("");
  const [verdict, setVerdict] = useState<"watch" | "replace">("watch");
  const tell = useTell();
  const test = useMutation({ mutationFn: () => got(client.POST("/rules/try", { body: { expression, hours: 2160 } })) });
  const keep = useChange(async () => {
    await got(client.PUT("/rules/{id}", { params: { path: { id: name } }, body: { expression, says, verdict } }));
    tell(`The rule ${name} is kept.`);
    setExpression("");
    setName("");
    setSays("");
    test.reset();
  });
  const remove = useChange((id: string) => client.DELETE("/rules/{id}", { params: { path: { id } } }));
  const tried = test.data;
  return (
    <section aria-labelledby="own" className="mb-8">
      <h2 id="own" className="mb-2">
        Rules of your own
      </h2>
      {rules.own.length > 0 && (
        <ul className="sheet mb-3 divide-y divide-line">
          {rules.own.map((r) => (
            <li key={r.id} className="flex flex-wrap items-center justify-between gap-3 px-4 py-2.5">
              <span className="min-w-0">
                <Mark verdict={r.verdict} /> <b>{r.says}</b>
                <span className="block font-mono text-sm break-words">{r.expression}</span>
                <span className="text-sm text-soft">
                  {r.id}, by {r.by} on {exact(new Date(r.made))}; holds for {r.holds_for}
                </span>
              </span>
              <button className="button" onClick={() => remove.mutate(r.id)}>
                Remove it
              </button>
            </li>
          ))}
        </ul>
      )}
      <form
        className="sheet space-y-3 p-4"
        onSubmit={(e) => {
          e.preventDefault();
          test.mutate();
        }}
      >
        <label className="block">
          An expression over metrics; <code>_1h</code>, <code>_24h</code>, <code>_7d</code> or <code>_90d</code> behind
          one asks how much it grew
          <input
            className="field mt-1 w-full font-mono"
            spellCheck={false}
            placeholder="pending_sectors_7d > 0 && temperature_celsius > 45"
            value={expression}
            onChange={(e) => {
              setExpression(e.target.value);
              test.reset();
            }}
          />
        </label>
        <button className="button" disabled={!expression.trim() || test.isPending}>
          {test.isPending ? "Trying" : "Try it on the last 90 days"}
        </button>
        <div aria-live="polite">
          {test.error && <p className="font-semibold text-replace">{test.error.message}</p>}
          {tried && (
            <p>
              <b>
                It would have flagged {tried.flagged.length} of {tried.drives} drives.
              </b>{" "}
              <span className="text-soft">{number(tried.readings)} readings.</span>
            </p>
          )}
          {tried && tried.flagged.length > 0 && (
            <div
              tabIndex={0}
              role="region"
              aria-label="Drives it would have flagged"
              className="mt-2 max-h-72 overflow-auto"
            >
              <table className="plain">
                <thead>
                  <tr>
                    <th>drive</th>
                    <th>bay</th>
                    <th>first</th>
                    <th>last</th>
                    <th>readings</th>
                    <th>now</th>
                  </tr>
                </thead>
                <tbody>
                  {tried.flagged.map((f) => (
                    <tr key={f.drive}>
                      <td>
                        <Link className="tail" to={`/drives/${f.drive}`}>
                          {f.tail}
                        </Link>
                      </td>
                      <td>{f.bay}</td>
                      <td className="num">{exact(new Date(f.first))}</td>
                      <td className="num">{exact(new Date(f.last))}</td>
                      <td className="num">{f.times}</td>
                      <td>{f.now ? "yes" : "no"}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
        </div>
        {tried && (
          <div className="grid items-end gap-3 border-t border-line pt-3 sm:grid-cols-[10rem_1fr_9rem_auto]">
            <label>
              Its name
              <input
                className="field mt-1 w-full"
                placeholder="warm-and-growing"
                value={name}
                onChange={(e) => setName(e.target.value)}
              />
            </label>
            <label>
              What it means
              <input
                className="field mt-1 w-full"
                placeholder="is warm, and has new bad sectors"
                value={says}
                onChange={(e) => setSays(e.target.value)}
              />
            </label>
            <label>
              It says
              <select
                className="field mt-1 w-full"
                value={verdict}
                onChange={(e) => setVerdict(e.target.value as "watch" | "replace")}
              >
                <option>watch</option>
                <option>replace</option>
              </select>
            </label>
            <button
              type="button"
              className="button main"
              disabled={!name || !says || keep.isPending}
              onClick={() => keep.mutate(undefined)}
            >
              Save
            </button>
          </div>
        )}
      </form>
    </section>
  );
}
