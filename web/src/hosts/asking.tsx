import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type S } from "../api/client";
import { Command } from "../parts/command";
import { useDo } from "../parts/do";
import { count, exact } from "../parts/format";
import { Ago } from "../parts/parts";
import { useTell } from "../parts/toast";
import { root } from "../api/root";

/** Asking lists the hosts that wait for approval, and the number of those that are still invited; for admins. */
export function Asking() {
  const queries = useQueryClient();
  const tell = useTell();
  const [code, setCode] = useState<S["Invitation"] | null>(null);
  const [hosts, setHosts] = useState("10");
  const q = useQuery({ queryKey: ["invitations"], queryFn: () => got(client.GET("/invitations")), retry: false });
  const again = () => {
    void queries.invalidateQueries({ queryKey: ["invitations"] });
    void queries.invalidateQueries({ queryKey: ["hosts"] });
  };
  const answer = useMutation({
    mutationFn: async ({ name, yes }: { name: string; yes: boolean }) => {
      const params = { params: { path: { host: name } } };
      await got(yes ? client.POST("/asking/{host}", params) : client.DELETE("/asking/{host}", params));
      return `${name} is ${yes ? "enrolled" : "refused"}`;
    },
    onSuccess: (says) => tell(says),
    onError: (e) => tell(e.message, true),
    onSettled: again,
  });
  const act = useDo("invitations");
  const invite = useMutation({
    mutationFn: () => got(client.POST("/invitations", { body: { count: Number(hosts), hours: 2 } })),
    onSuccess: setCode,
    onError: (e) => tell(e.message, true),
    onSettled: again,
  });
  if (!q.data) return null;
  const { asking, open } = q.data;
  return (
    <section className="mt-6 space-y-3" aria-label="Enrolling hosts">
      {asking.map((a) => (
        <div key={a.name} className="sheet flex flex-wrap items-center gap-x-4 gap-y-2 border-watch p-4">
          <p className="grow">
            <b>{a.name}</b> asks to be enrolled, from {a.from}, <Ago at={a.at} />
          </p>
          <button
            className="button main"
            disabled={answer.isPending}
            onClick={() => answer.mutate({ name: a.name, yes: true })}
          >
            Approve {a.name}
          </button>
          <button
            className="button"
            disabled={answer.isPending}
            onClick={() => answer.mutate({ name: a.name, yes: false })}
          >
            Refuse {a.name}
          </button>
        </div>
      ))}
      {open.map((i) => (
        <p key={i.id} className="flex flex-wrap items-center gap-3 text-soft">
          <span>
            {i.by} invited {count(i.count, "host")} until {exact(new Date(i.ends_at))}; {i.used} asked
            {i.pattern && `; names that fit ${i.pattern} need no approval`}.
          </span>
          <button
            className="button small"
            disabled={act.isPending}
            onClick={() =>
              act.mutate({
                ask: () => got(client.DELETE("/invitations/{id}", { params: { path: { id: i.id } } })),
                says: "The invitation is withdrawn: it can no longer be used.",
              })
            }
          >
            Withdraw it
          </button>
        </p>
      ))}
      {code ? (
        <div role="status" className="sheet space-y-2 border-watch p-4">
          <p>This code is shown only now. On each host, with its own name:</p>
          <Command line={`lantern agent --invite ${code.code ?? ""} --server ${location.origin}${root}`} />
        </div>
      ) : (
        <form
          className="flex flex-wrap items-center gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            invite.mutate();
          }}
        >
          <label className="flex items-center gap-2 text-soft">
            Invite
            <input
              className="field w-20"
              inputMode="numeric"
              value={hosts}
              onChange={(e) => setHosts(e.target.value)}
              aria-label="How many hosts"
            />
            hosts for two hours
          </label>
          <button className="button" disabled={invite.isPending || !(Number(hosts) > 0)}>
            Make a code
          </button>
        </form>
      )}
    </section>
  );
}
