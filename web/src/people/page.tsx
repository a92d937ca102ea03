import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, got, type S } from "../api/client";
import { useMe } from "../api/live";
import { useDo } from "../parts/do";
import { exact } from "../parts/format";
import { Empty, Failed, Title, Waiting } from "../parts/parts";
import { useTell } from "../parts/toast";
import { Account } from "./account";

/** PeoplePage shows who may use the service, which sessions are open, and who changed what. */
export default function PeoplePage() {
  const people = useQuery({ queryKey: ["people"], queryFn: () => got(client.GET("/people")) });
  if (people.error)
    return <Failed what="The list of people" error={people.error} again={() => void people.refetch()} />;
  if (!people.data) return <Waiting />;
  return (
    <>
      <Title>People</Title>
      <ul className="space-y-2">
        {people.data.map((p) => (
          <Person key={p.name} person={p} />
        ))}
      </ul>
      <Account />
      <Sessions />
      <Audit />
    </>
  );
}

const may: Record<S["Role"], string> = {
  viewer: "sees everything",
  operator: "lights, tests, swaps, notices",
  keeper: "also rules, plans, layouts, stock, channels",
  admin: "also people and hosts",
};

function Person({ person: p }: { person: S["Person"] }) {
  const role = useMe().data?.role;
  const act = useDo("people", "sessions");
  const only = [...(p.hosts ?? []), ...(p.pools ?? [])];
  return (
    <li className="sheet grid gap-x-6 gap-y-1 p-4 sm:grid-cols-[12rem_1fr_auto]">
      <b>
        {p.name}
        {p.you && <span className="font-normal text-soft"> (you)</span>}
      </b>
      <span>
        <b>{p.role}</b> <span className="text-soft">{may[p.role]}</span>
        {only.length > 0 && <span className="block">acts only on {only.join(", ")}</span>}
      </span>
      <span className="text-soft">
        {p.added_by ? `added by ${p.added_by}` : "the first"}
        {p.ends_at && <span className="block">ends {exact(new Date(p.ends_at))}</span>}
        {role === "admin" && !p.you && (
          <button
            className="button small mt-1"
            disabled={act.isPending}
            onClick={() =>
              act.mutate({
                ask: () => got(client.DELETE("/people/{name}", { params: { path: { name: p.name } } })),
                says: `${p.name} is removed: their token and their sessions have ended.`,
              })
            }
          >
            Remove {p.name}
          </button>
        )}
      </span>
    </li>
  );
}

function Sessions() {
  const tell = useTell();
  const all = useQueryClient();
  const sessions = useQuery({ queryKey: ["sessions"], queryFn: () => got(client.GET("/sessions")) });
  const end = useMutation({
    mutationFn: (id: string) => got(client.DELETE("/sessions/{id}", { params: { path: { id } } })),
    onSuccess: () => {
      tell("The session has ended.");
      void all.invalidateQueries({ queryKey: ["sessions"] });
    },
    onError: (e) => tell(e.message),
  });
  if (!sessions.data) return null;
  return (
    <section aria-labelledby="sessions" className="mt-8">
      <h2 id="sessions" className="mb-3 text-soft">
        Open sessions
      </h2>
      {sessions.data.length === 0 && <Empty>No session is open.</Empty>}
      <ul className="space-y-2">
        {sessions.data.map((s) => (
          <li key={s.id} className="sheet flex flex-wrap items-center justify-between gap-x-6 gap-y-1 px-4 py-2">
            <span>
              <b>{s.name}</b> from {s.from}
              {s.this && " (this one)"}
              <span className="block text-sm text-soft">
                opened {exact(new Date(s.opened_at))}, ends {exact(new Date(s.ends_at))}
              </span>
            </span>
            {!s.this && (
              <button className="button" disabled={end.isPending} onClick={() => end.mutate(s.id)}>
                End it
              </button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Audit() {
  const role = useMe().data?.role;
  const reads = role === "keeper" || role === "admin";
  const audit = useQuery({
    queryKey: ["audit"],
    enabled: reads,
    queryFn: () => got(client.GET("/audit", { params: { query: { newest: 100 } } })),
  });
  const verify = useMutation({ mutationFn: () => got(client.GET("/audit/verify")) });
  if (!reads || !audit.data) return null;
  return (
    <section aria-labelledby="audit" className="mt-8">
      <h2 id="audit" className="mb-3 text-soft">
        Who changed what
      </h2>
      {audit.data.length === 0 && <Empty>Nothing was changed yet.</Empty>}
      <ol className="sheet divide-y divide-line">
        {audit.data.map((e) => (
          <li key={e.number} className="grid gap-x-4 px-4 py-2 sm:grid-cols-[10rem_9rem_1fr]">
            <span className="text-soft">{exact(new Date(e.at))}</span>
            <b>{e.who}</b>
            <span className="min-w-0 break-words">
              {e.action} <span className="text-soft">{e.target}</span>
              {e.result !== "done" && <span className="block">{e.result}</span>}
            </span>
          </li>
        ))}
      </ol>
      <div className="mt-2 flex flex-wrap items-center gap-3 text-soft">
        <span>
          The newest hundred. All of them: <code>lantern audit export</code>
        </span>
        <button className="button small" disabled={verify.isPending} onClick={() => verify.mutate()}>
          Verify that none was changed
        </button>
      </div>
      {verify.data && (
        <p role="status" className={`mt-2 ${verify.data.sound ? "" : "font-semibold text-replace"}`}>
          {verify.data.says} Newest entry: {verify.data.number}, hash <code>{verify.data.hash.slice(0, 16)}</code>. Keep
          both elsewhere, to find out whether the end was cut off.
        </p>
      )}
      {verify.error && <p role="alert">{verify.error.message}</p>}
    </section>
  );
}
