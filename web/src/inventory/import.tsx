import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type S } from "../api/client";
import { Command } from "../parts/command";
import { plain, table } from "../parts/csv";
import { useTell } from "../parts/toast";
import { Would } from "./would";
import { count } from "../parts/format";

/** Columns of an export that are not imported: they are reported by the drives. */
const told = ["seen", "place", "pool"];

/** rowsOf are the rows of a table that names drives and fields. */
export function rowsOf(text: string, fields: string[]): S["InventoryRow"][] {
  const { heads, rows } = table(text);
  const key = heads.includes("serial") ? heads.indexOf("serial") : heads.indexOf("drive");
  if (key < 0) throw new Error("No column says which drive it is: name one serial, or drive.");
  const odd = heads.find((h, i) => i !== key && !["serial", "drive", ...fields, ...told].includes(h));
  if (odd !== undefined) throw new Error(`No field is named "${odd}". All of them: ${fields.join(", ")}.`);
  return rows.map(({ line, cells }) => {
    const name = plain((cells[key] ?? "").trim());
    if (!name) throw new Error(`Line ${line} names no drive.`);
    const values: Record<string, string> = {};
    heads.forEach((h, i) => {
      if (fields.includes(h)) values[h] = plain(cells[i] ?? "");
    });
    return { line, name, whole: heads[key] === "serial", fields: values };
  });
}

/** Import reads a table of many drives, shows the changes, and then writes all of them or none. */
export function Import() {
  const tell = useTell();
  const queries = useQueryClient();
  const fields = useQuery({
    queryKey: ["inventory", "fields"],
    queryFn: () => got(client.GET("/inventory/fields")),
    staleTime: Infinity,
  });
  const [rows, setRows] = useState<S["InventoryRow"][]>([]);
  const [name, setName] = useState("");
  const [wrong, setWrong] = useState("");
  const send = useMutation({
    mutationFn: (dry: boolean) => got(client.POST("/inventory/import", { body: { rows, dry } })),
    onSuccess: (v) => {
      if (!v.written) return;
      tell(`${v.changes.length} fields of ${v.rows} drives were written.`);
      setRows([]);
      void queries.invalidateQueries({ queryKey: ["inventory"] });
      void queries.invalidateQueries({ queryKey: ["drive"] });
    },
    onError: (e: Error) => setWrong(e.message),
  });
  const v = rows.length > 0 ? send.data : undefined;
  const read = async (file?: File) => {
    setWrong("");
    setRows([]);
    send.reset();
    if (!file) return;
    setName(file.name);
    try {
      setRows(
        rowsOf(
          await file.text(),
          (fields.data ?? []).map((f) => f.name),
        ),
      );
    } catch (e) {
      setWrong((e as Error).message);
    }
  };
  return (
    <details className="sheet mt-6 p-4">
      <summary className="min-h-8 cursor-pointer font-semibold">Many drives at once, from a table</summary>
      <div className="mt-2 space-y-3">
        <p className="text-soft">
          A CSV file. Its first line names the columns: serial or drive, then any of{" "}
          {(fields.data ?? []).map((f) => f.name).join(", ")}.
        </p>
        <p className="flex flex-wrap items-center gap-3">
          <label className="button focus-within:outline-2 focus-within:outline-offset-2">
            Choose a file
            <input
              type="file"
              className="sr-only"
              accept=".csv,text/csv"
              disabled={!fields.data}
              onChange={(e) => {
                void read(e.target.files?.[0]);
                e.target.value = ""; // the same file can be chosen again after it was corrected
              }}
            />
          </label>
          {name && <span>{name}</span>}
        </p>
        {wrong && (
          <p role="alert" className="font-semibold text-replace">
            {wrong} Nothing was written.
          </p>
        )}
        {rows.length > 0 && !v && (
          <button className="button main" disabled={send.isPending} onClick={() => send.mutate(true)}>
            Show what {count(rows.length, "row")} of {name} would change
          </button>
        )}
        {v && !v.written && <Would said={v} busy={send.isPending} write={() => send.mutate(false)} />}
        <div className="text-sm text-soft">
          <span className="mb-1 block">The same on the command line:</span>
          <Command line="lantern inventory import bought.csv" />
        </div>
      </div>
    </details>
  );
}
