import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type S } from "../api/client";
import { root } from "../api/root";
import { Command } from "../parts/command";
import { useTell } from "../parts/toast";

/** Enrol adds a host by its name, and shows its agent's token once. */
export function Enrol() {
  const tell = useTell();
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [made, setMade] = useState<S["Enrolled"]>();
  const enrol = useMutation({
    mutationFn: () => got(client.POST("/hosts", { body: { name } })),
    onSuccess: (e) => {
      setMade(e);
      setName("");
      void queries.invalidateQueries({ queryKey: ["hosts"] });
    },
    onError: (e: Error) => tell(e.message, true),
  });
  return (
    <section aria-labelledby="enrol" className="mt-6 space-y-2">
      <h2 id="enrol">Enrol one host</h2>
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          enrol.mutate();
        }}
      >
        <label>
          <span className="mb-1 block text-sm text-soft">Name: lower-case letters, digits, hyphens</span>
          <input
            className="field"
            placeholder="gannet"
            pattern="[a-z0-9][a-z0-9\-]{0,62}"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <button className="button" disabled={enrol.isPending || !name}>
          Enrol
        </button>
      </form>
      {made ? (
        <div role="status" className="sheet space-y-2 p-4">
          <p>The token of {made.name} is shown only once. Start its agent, as root, with:</p>
          <Command
            line={
              `LANTERN_HOST_TOKEN=${made.token} ` +
              `lantern agent --host ${made.name} --server ${location.origin}${root}`
            }
          />
          <button className="button small" onClick={() => setMade(undefined)}>
            I have it
          </button>
        </div>
      ) : (
        <Command line={`lantern host enrol ${name || "<name>"}`} />
      )}
    </section>
  );
}
