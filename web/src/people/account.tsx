import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type S } from "../api/client";
import { useMe } from "../api/live";
import { Command } from "../parts/command";
import { useTell } from "../parts/toast";
import { go } from "../api/root";

/** Account has the settings of one's own account and, for an admin, of others. */
export function Account() {
  const me = useMe().data;
  const queries = useQueryClient();
  const tell = useTell();
  const [token, setToken] = useState<{ name: string; token: string } | null>(null);
  const [name, setName] = useState("");
  const [role, setRole] = useState<S["Role"]>("operator");
  const [days, setDays] = useState("");
  const shown = (p: S["NewPerson"]) => {
    setToken({ name: p.name, token: p.token });
    setName("");
    void queries.invalidateQueries({ queryKey: ["people"] });
  };
  const add = useMutation({
    mutationFn: () =>
      got(
        client.POST("/people", {
          body: { name: name.trim(), role, ...(Number(days) > 0 && { hours: 24 * Number(days) }) },
        }),
      ),
    onSuccess: shown,
    onError: (e) => tell(e.message, true),
  });
  const renew = useMutation({
    mutationFn: () => got(client.POST("/people", { body: { name: me?.name ?? "", renew: true } })),
    onSuccess: shown,
    onError: (e) => tell(e.message, true),
  });
  const out = useMutation({
    mutationFn: () => got(client.DELETE("/session")),
    onSettled: () => go("/sign-in"),
  });
  if (!me) return null;
  return (
    <section aria-labelledby="account" className="mt-6 space-y-3">
      <h2 id="account" className="text-soft">
        You are {me.name}
      </h2>
      <p className="flex flex-wrap gap-3">
        <button className="button" disabled={out.isPending} onClick={() => out.mutate()}>
          Sign out
        </button>
        <button className="button" disabled={renew.isPending} onClick={() => renew.mutate()}>
          Another token for me; the old one ends
        </button>
      </p>
      {token && (
        <div role="status" className="sheet space-y-2 border-watch p-4">
          <p>
            The token of <b>{token.name}</b>. It is shown only this once:
          </p>
          <Command line={token.token} />
          <button className="button small" onClick={() => setToken(null)}>
            I have it
          </button>
        </div>
      )}
      {me.role === "admin" && (
        <form
          className="sheet flex flex-wrap items-end gap-3 p-4"
          onSubmit={(e) => {
            e.preventDefault();
            add.mutate();
          }}
        >
          <label className="space-y-1">
            <span className="block text-sm">Add somebody</span>
            <input
              className="field w-44"
              required
              maxLength={40}
              value={name}
              onChange={(e) => setName(e.target.value)}
            />
          </label>
          <label className="space-y-1">
            <span className="block text-sm">Role</span>
            <select className="field w-auto" value={role} onChange={(e) => setRole(e.target.value as S["Role"])}>
              {["viewer", "operator", "keeper", "admin"].map((r) => (
                <option key={r}>{r}</option>
              ))}
            </select>
          </label>
          <label className="space-y-1">
            <span className="block text-sm">Ends after days; empty for never</span>
            <input
              className="field num w-28"
              inputMode="numeric"
              value={days}
              onChange={(e) => setDays(e.target.value)}
            />
          </label>
          <button className="button main" disabled={add.isPending}>
            Add
          </button>
          <span className="w-full text-sm text-soft">
            For some hosts or pools only:{" "}
            <code>
              lantern person add {name || "bo"} --role {role} --host skerry
            </code>
          </span>
        </form>
      )}
    </section>
  );
}
