import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, once, type S } from "../api/client";
import { Command } from "../parts/command";
import { count, exact } from "../parts/format";
import { useTell } from "../parts/toast";

/** warrantyWords give the end of a warranty; empty if it is not known. */
export function warrantyWords(item: S["InventoryItem"]) {
  if (!item.fields.warranty) return "";
  const days = item.warranty_days ?? 0;
  return days < 0 ? `ended ${item.fields.warranty}` : count(days, "day");
}

/** useFields are all fields that can be set. */
const useFields = () =>
  useQuery({
    queryKey: ["inventory", "fields"],
    queryFn: () => got(client.GET("/inventory/fields")),
    staleTime: Infinity,
  });

/** Known shows the inventory record of a drive; each field can be changed in place. */
export function Known({ item }: { item: S["InventoryItem"] }) {
  const fields = useFields().data ?? [];
  const queries = useQueryClient();
  const tell = useTell();
  const [note, setNote] = useState("");
  const [all, setAll] = useState(false);
  const set = useMutation({
    mutationFn: (body: S["InventorySet"]) =>
      got(client.PUT("/inventory/{drive}", { params: { path: { drive: item.serial }, ...once() }, body })),
    onSuccess: () => {
      setNote("");
      void queries.invalidateQueries({ queryKey: ["inventory"] });
      void queries.invalidateQueries({ queryKey: ["drive"] });
    },
    onError: (e) => tell(e.message, true),
  });
  const shown = fields.filter((f) => all || item.fields[f.name]);
  return (
    <div className="space-y-2.5">
      {item.says && <p className="font-semibold">{item.says}.</p>}
      {shown.length === 0 && fields.length > 0 && <p className="text-soft">No inventory yet.</p>}
      <ul className="grid gap-x-4 gap-y-1.5 sm:grid-cols-2">
        {shown.map((f) => (
          <Field
            key={f.name}
            field={f}
            value={item.fields[f.name] ?? ""}
            busy={set.isPending}
            keep={(text) => set.mutate({ fields: { [f.name]: text } })}
          />
        ))}
      </ul>
      {item.notes.map((n, i) => (
        <p key={i}>
          <span className="text-soft">
            {exact(new Date(n.at))} {n.by}:
          </span>{" "}
          {n.text}
        </p>
      ))}
      <form
        className="flex flex-wrap items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (note.trim()) set.mutate({ note });
        }}
      >
        <input
          className="field min-w-0 grow"
          aria-label={`Note about ${item.serial}`}
          placeholder="a note"
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
        <button className="button" disabled={set.isPending || !note.trim()}>
          Note
        </button>
        <button type="button" className="button" onClick={() => setAll(!all)} aria-expanded={all}>
          {all ? "Only what is known" : "All fields"}
        </button>
      </form>
      <Command line={`lantern inventory set ${item.tail ?? item.serial} field=value`} />
    </div>
  );
}

function Field(p: { field: S["InventoryField"]; value: string; busy: boolean; keep: (text: string) => void }) {
  const [typed, setTyped] = useState<string | null>(null);
  const name = p.field.name.replaceAll("_", " ");
  return (
    <li>
      <form
        className="flex items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          p.keep(typed ?? "");
          setTyped(null);
        }}
      >
        <span className="w-28 shrink-0 text-soft" title={p.field.meaning}>
          {name}
        </span>
        <span className="flex min-w-0 grow items-center gap-2">
          <input
            className="field min-w-0 grow"
            aria-label={`${name}: ${p.field.meaning}`}
            placeholder={typed === null ? "" : p.field.meaning}
            value={typed ?? p.value}
            onChange={(e) => setTyped(e.target.value)}
            onKeyDown={(e) => e.key === "Escape" && setTyped(null)}
          />
          {typed !== null && typed !== p.value && (
            <button className="button main" disabled={p.busy}>
              Keep
            </button>
          )}
        </span>
      </form>
    </li>
  );
}
