import { AlertDialog } from "radix-ui";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { root } from "../api/root";

/** drafts are the forms with unsent text. */
const drafts = new Set<symbol>();

/** useDraft warns before a page with unsent text is left. */
export function useDraft(typed: boolean) {
  useEffect(() => {
    if (!typed) return;
    const mine = Symbol("draft");
    drafts.add(mine);
    return () => void drafts.delete(mine);
  }, [typed]);
}

/** Drafts asks before a link or the browser leaves a page with unsent text. */
export function Drafts() {
  const [to, setTo] = useState("");
  const go = useNavigate();
  useEffect(() => {
    const leave = (e: MouseEvent) => {
      const link = (e.target as Element).closest?.<HTMLAnchorElement>("a[href]");
      if (!link || drafts.size === 0 || e.ctrlKey || e.metaKey || e.shiftKey || link.target) return;
      const at = new URL(link.href);
      if (at.origin !== location.origin || at.pathname === location.pathname) return;
      e.preventDefault();
      e.stopPropagation();
      setTo(at.pathname.slice(root.length) + at.search);
    };
    const unload = (e: BeforeUnloadEvent) => {
      if (drafts.size > 0) e.preventDefault();
    };
    document.addEventListener("click", leave, true);
    window.addEventListener("beforeunload", unload);
    return () => {
      document.removeEventListener("click", leave, true);
      window.removeEventListener("beforeunload", unload);
    };
  }, []);
  return (
    <AlertDialog.Root open={to !== ""} onOpenChange={(open) => !open && setTo("")}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-ground opacity-80" />
        <AlertDialog.Content className="sheet dialog top-[18vh] max-w-[28rem] space-y-4 p-5">
          <AlertDialog.Title className="text-xl font-semibold">Leave this page?</AlertDialog.Title>
          <AlertDialog.Description>What you typed here was not sent, and would be lost.</AlertDialog.Description>
          <p className="flex flex-wrap gap-3">
            <AlertDialog.Cancel className="button main">Stay</AlertDialog.Cancel>
            <AlertDialog.Action
              className="button"
              onClick={() => {
                drafts.clear();
                void go(to);
              }}
            >
              Leave it
            </AlertDialog.Action>
          </p>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
