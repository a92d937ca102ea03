import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useTell } from "./toast";

/** A deed is one request, with the text that is shown afterwards and the next action. */
type Deed = { ask: () => Promise<unknown>; says: string; then?: () => void };

/** useDo does one thing at a time, shows the result, and refreshes the changed data. */
export function useDo(...touched: string[]) {
  const queries = useQueryClient();
  const tell = useTell();
  return useMutation({
    mutationFn: (d: Deed) => d.ask(),
    onSuccess: (_, d) => {
      tell(d.says);
      d.then?.();
    },
    onError: (e: Error) => tell(e.message, true),
    onSettled: () => {
      for (const key of touched) void queries.invalidateQueries({ queryKey: [key] });
    },
  });
}

/** Rename is a field with the name of a thing, which is stored if it is changed. */
export function Rename({
  what,
  is,
  busy,
  keep,
}: {
  what: string;
  is: string;
  busy: boolean;
  keep: (name: string) => void;
}) {
  const [name, setName] = useState<string | null>(null);
  const changed = name !== null && name.trim() !== "" && name.trim() !== is;
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (changed) keep(name.trim());
      }}
    >
      <label className="flex items-center gap-2 text-soft">
        {what}
        <input className="field w-52" value={name ?? is} onChange={(e) => setName(e.target.value)} />
      </label>
      {changed && (
        <button className="button main" disabled={busy}>
          Rename
        </button>
      )}
    </form>
  );
}
