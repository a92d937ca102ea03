import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type S } from "../api/client";
import { Command } from "../parts/command";
import { useTell } from "../parts/toast";
import { Would } from "./would";
import { count } from "../parts/format";

/** Many sets one field of several drives, or writes a note about all of them, and shows the changes first. */
export function Many({ serials, clear }: { serials: string[]; clear: () => void }) {
  const queries = useQueryClient();
  const tell = useTell();
  const fields = useQuery({
    queryKey: ["inventory", "fields"],
    queryFn: () => got(client.GET("/inventory/fields")),
    staleTime: Infinity,
  });
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const [wrong, setWrong] = useState("");
  const send = useMutation({
    mutationFn: (dry: boolean) => {
      const rows: S["InventoryRow"][] = serials.map((s, i) => ({
        line: i + 1,
        name: s,
        whole: true,
        fields: name === "note" ? {} : { [name]: value },
        ...(name === "note" ? { note: value } : {}),
      }));
      return got(client.POST("/inventory/import", { body: { rows, dry } }));
    },
    onSuccess: (v) => {
      setWrong("");
      if (!v.written) return;
      tell(`Saved for ${count(serials.length, "drive")}.`);
      void queries.invalidateQueries({ queryKey: ["inventory"] });
      void queries.invalidateQueries({ queryKey: ["drive"] });
      clear();
    },
    onError: (e: Error) => setWrong(e.message),
  });
  const change = (f: () => void) => {
    f();
    send.reset();
    setWrong("");
  };
  const v = send.data;
  const drives = serials.map((s) => s.slice(-5)).join(" ");
  const quoted = `'${value.replaceAll("'", "'\\''")}'`;
  return (
    <section className="sheet mb-3 space-y-3 border-2 border-edge p-4" aria-label="What was chosen">
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <h2>{count(serials.length, "drive")} chosen</h2>
        <button className="button small" onClick={clear}>
          Choose none
        </button>
      </div>
      <form
        className="flex flex-wrap items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          send.mutate(true);
        }}
      >
        <select
          className="field w-auto"
          aria-label="What is written"
          value={name}
          onChange={(e) => change(() => setName(e.target.value))}
        >
          <option value="">choose what to write</option>
          <option value="note">a note</option>
          {(fields.data ?? []).map((f) => (
            <option key={f.name} value={f.name}>
              {f.name.replaceAll("_", " ")}
            </option>
          ))}
        </select>
        <input
          className="field w-auto min-w-40 grow"
          aria-label="Its value for all of them"
          placeholder={fields.data?.find((f) => f.name === name)?.meaning ?? ""}
          value={value}
          onChange={(e) => change(() => setValue(e.target.value))}
        />
        <button className="button" disabled={!name || (name === "note" && !value.trim()) || send.isPending}>
          Show what would change
        </button>
      </form>
      {wrong && (
        <p role="alert" className="font-semibold text-replace">
          {wrong} Nothing was written.
        </p>
      )}
      {v && !v.written && <Would said={v} busy={send.isPending} write={() => send.mutate(false)} />}
      {name && (
        <Command
          line={
            name === "note"
              ? `lantern inventory note ${drives} ${quoted}`
              : `lantern inventory set ${drives} ${name}=${quoted}`
          }
        />
      )}
    </section>
  );
}
