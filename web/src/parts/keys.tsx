import { Dialog } from "radix-ui";
import { useEffect, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { useMe } from "../api/live";
import { navigation } from "../pages";

/** letters gives each name the first of its letters that no name before it has. */
function letters(names: string[]): string[] {
  const used = new Set<string>();
  return names.map((n) => {
    const c = [...n.toLowerCase()].find((x) => !used.has(x)) ?? "";
    used.add(c);
    return c;
  });
}

/** shortcutsOf are the pages that g and a letter open. */
const shortcutsOf = (headquarters?: boolean) => {
  const to = navigation(headquarters);
  const keys = letters(to.map((n) => n.name));
  return to.map((n, i) => ({ ...n, key: keys[i] }));
};

const others: [string, string][] = [
  ["/", "search"],
  ["?", "these keys"],
  ["Esc", "close what is open"],
  ["Tab, Shift+Tab", "the next, the one before"],
  ["Enter, Space", "open, press"],
];

/** Keys shows the keys of the console; ? opens it. */
export function Keys() {
  const [open, setOpen] = useState(false);
  const go = useNavigate();
  const headquarters = useMe().data?.headquarters;
  const shortcuts = useMemo(() => shortcutsOf(headquarters), [headquarters]);
  useEffect(() => {
    let after = 0; // when g was pressed
    const key = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName);
      if (typing || e.ctrlKey || e.metaKey || e.altKey || document.querySelector("[role=dialog]")) return;
      if (e.key === "?") {
        e.preventDefault();
        setOpen(true);
      } else if (e.key === "g") after = e.timeStamp;
      else if (e.timeStamp - after < 1500) {
        after = 0;
        const to = shortcuts.find((s) => s.key === e.key)?.to;
        if (to) void go(to);
      }
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  }, [go, shortcuts]);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button small hidden md:inline-flex" aria-label="Keys">
        <kbd className="font-mono">?</kbd>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ground opacity-80" />
        <Dialog.Content
          aria-describedby={undefined}
          className="sheet dialog top-[8vh] max-h-[84vh] max-w-[32rem] overflow-y-auto p-5"
        >
          <Dialog.Title className="mb-3 text-xl font-semibold">Keys</Dialog.Title>
          <dl className="grid grid-cols-[9rem_1fr] gap-y-1.5">
            {[...others, ...shortcuts.map((s): [string, string] => [`g ${s.key ?? ""}`, s.name])].map(([k, what]) => (
              <div key={k} className="contents">
                <dt>
                  <kbd className="rounded border border-line px-1.5 font-mono text-sm">{k}</kbd>
                </dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
          <Dialog.Close className="button mt-4">Close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
