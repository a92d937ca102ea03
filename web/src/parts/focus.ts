import { useEffect } from "react";

const focusable =
  "a[href],button:not([disabled]),input:not([disabled]),select:not([disabled]),textarea:not([disabled])";

/** mark is the text before the title in a rehearsal. */
const mark = typeof document === "undefined" ? "" : document.title.replace(/Brave Lantern.*$/, "");

const lost = () => !document.activeElement || document.activeElement === document.body;

/** ancestors are an element and all elements around it, the innermost first. */
function ancestors(e: Element | null) {
  const out: Element[] = [];
  for (; e && e !== document.body; e = e.parentElement) out.push(e);
  return out;
}

/**
 * useFocus keeps the keyboard focus. After a change of page it goes to the page's heading. If the focused element was
 * disabled for a moment, it gets the focus back; if it is gone, the element around it does.
 */
export function useFocus(at: string) {
  useEffect(() => {
    const main = document.getElementById("main");
    if (!main) return;
    let wanted = useFocus.moved;
    useFocus.moved = true; // on the first page, the browser's choice stays
    let last: Element[] = [];
    const remember = (e: FocusEvent) => {
      last = ancestors(e.target as Element);
    };
    const look = () => {
      const h1 = main.querySelector<HTMLElement>("h1:not(.sr-only)");
      if (h1) document.title = `${mark}${h1.dataset.title ?? h1.textContent?.trim().slice(0, 80)} · Brave Lantern`;
      if (wanted && h1) {
        wanted = false;
        if (lost() || document.activeElement?.closest("nav,[role=dialog]")) {
          h1.tabIndex = -1;
          h1.focus({ preventScroll: true });
        }
        return;
      }
      const [was] = last;
      if (!was || !lost()) return;
      if (was.isConnected) {
        // Only when it can be used again; whoever clicked beside it wanted it to lose the focus.
        if (was.matches("[data-was-disabled]:not([disabled])")) (was as HTMLElement).focus({ preventScroll: true });
        return;
      }
      const place = last.find((e) => e.isConnected);
      const next = place?.querySelector<HTMLElement>(focusable);
      last = [];
      next?.focus({ preventScroll: true });
    };
    const changed = (changes: MutationRecord[]) => {
      for (const c of changes)
        if (c.attributeName === "disabled" && (c.target as Element).hasAttribute("disabled"))
          (c.target as Element).setAttribute("data-was-disabled", "");
      look();
    };
    const watch = new MutationObserver(changed);
    watch.observe(main, { childList: true, subtree: true, attributes: true, attributeFilter: ["disabled"] });
    document.addEventListener("focusin", remember);
    look();
    return () => {
      watch.disconnect();
      document.removeEventListener("focusin", remember);
    };
  }, [at]);
}
useFocus.moved = false;
