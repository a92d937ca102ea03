import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useDeferredValue, useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { client, got, type S } from "../api/client";
import { useMe } from "../api/live";
import { root } from "../api/root";
import { searchable } from "../pages";

/** Search is one field for everything; / opens it. */
export function Search() {
  const [open, setOpen] = useState(false);
  const [q, setQ] = useState("");
  const [at, setAt] = useState(0);
  const wanted = useDeferredValue(q.trim());
  const go = useNavigate();
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName);
      if (e.key === "/" && !typing && !e.ctrlKey && !e.metaKey) {
        e.preventDefault();
        setQ(""); // the previous search is cleared
        setAt(0);
        setOpen(true);
      }
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  }, []);
  const found = useQuery({
    queryKey: ["search", wanted],
    queryFn: () => got(client.GET("/search", { params: { query: { q: wanted } } })),
    enabled: wanted !== "",
    refetchInterval: false,
    placeholderData: (was) => was,
  });
  const words = wanted.toLowerCase().split(/\s+/).filter(Boolean);
  const hq = useMe().data?.headquarters;
  const pages = searchable(hq).filter((a) => words.every((w) => `${a.title} ${a.detail}`.toLowerCase().includes(w)));
  const hits = wanted ? [...(found.data ?? []), ...pages] : pages;
  useEffect(() => {
    document.getElementById(`hit-${at}`)?.scrollIntoView({ block: "nearest" });
  }, [at]);
  const choose = (h?: S["Hit"]) => {
    if (!h) return;
    setOpen(false);
    setQ("");
    if (h.site) location.assign(root + h.to);
    else void go(h.to);
  };
  return (
    <Dialog.Root
      open={open}
      onOpenChange={(to) => {
        setOpen(to);
        setQ("");
        setAt(0);
      }}
    >
      <Dialog.Trigger className="button small">
        Search <kbd className="hidden rounded border border-line px-1.5 font-mono text-xs text-soft sm:inline">/</kbd>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ground opacity-80" />
        <Dialog.Content aria-describedby={undefined} className="sheet dialog top-[12vh] max-w-[38rem] p-3">
          <Dialog.Title className="sr-only">Search</Dialog.Title>
          <input
            autoFocus
            role="combobox"
            aria-expanded={hits.length > 0}
            aria-controls="hits"
            aria-activedescendant={hits.length ? `hit-${at}` : undefined}
            aria-label="Find a drive by any part of serial, WWN, bay, pool or host"
            className="field text-lg"
            placeholder="serial, WWN, bay, pool, host or page"
            value={q}
            onChange={(e) => {
              setQ(e.target.value.replace(/^\//, ""));
              setAt(0);
            }}
            onKeyDown={(e) => {
              if (e.key === "ArrowDown") {
                e.preventDefault();
                setAt((i) => Math.min(i + 1, hits.length - 1));
              }
              if (e.key === "ArrowUp") {
                e.preventDefault();
                setAt((i) => Math.max(i - 1, 0));
              }
              if (e.key === "Enter") choose(hits[at]);
            }}
          />
          <ul id="hits" role="listbox" aria-label="Found" className="mt-2 max-h-[55vh] overflow-y-auto">
            {hits.map((h, i) => (
              // Keys are the field's: it holds the focus, and moves what is active.
              // eslint-disable-next-line jsx-a11y/click-events-have-key-events
              <li
                key={h.kind + h.to}
                id={`hit-${i}`}
                role="option"
                aria-selected={i === at}
                onMouseEnter={() => setAt(i)}
                onClick={() => choose(h)}
                className="flex cursor-pointer items-baseline gap-3 rounded-md px-3 py-2 aria-selected:bg-raised"
              >
                <span className="w-12 shrink-0 text-sm text-soft">{h.kind}</span>
                <span className={h.kind === "drive" ? "tail" : "font-semibold"}>{h.title}</span>
                <span className="truncate text-sm text-soft">{h.detail}</span>
              </li>
            ))}
          </ul>
          {wanted && !hits.length && !found.isFetching && (
            <p className="px-3 py-4 text-soft">
              Nothing has “{wanted}” in its name. Any part of a serial, WWN, bay, pool or host will do.
            </p>
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
