import { Toast } from "radix-ui";
import { createContext, useCallback, useContext, useState, type ReactNode } from "react";

type Note = { id: number; text: string; bad: boolean };
const Context = createContext<(text: string, bad?: boolean) => void>(() => {});
export const useTell = () => useContext(Context);

/** Tells shows the result of an action. */
export function Tells({ children }: { children: ReactNode }) {
  const [notes, setNotes] = useState<Note[]>([]);
  const tell = useCallback(
    (text: string, bad = false) => setNotes((n) => [...n, { id: Date.now() + Math.random(), text, bad }]),
    [],
  );
  return (
    <Context.Provider value={tell}>
      <Toast.Provider duration={8000} label="Message">
        {children}
        {notes.map((n) => (
          <Toast.Root
            key={n.id}
            onOpenChange={(open) => !open && setNotes((all) => all.filter((x) => x.id !== n.id))}
            className={[
              "sheet flex items-start justify-between gap-4 bg-raised p-4 lg:px-4 lg:py-2",
              n.bad ? "border-replace" : "border-edge",
            ].join(" ")}
          >
            <Toast.Description>{n.text}</Toast.Description>
            <Toast.Close aria-label="Close this message" className="pointer-events-auto px-2">
              ×
            </Toast.Close>
          </Toast.Root>
        ))}
        <Toast.Viewport className="pointer-events-none fixed right-2 top-1 z-50 flex w-[min(26rem,calc(100vw-2rem))] lg:w-[44rem] flex-col gap-2" />
      </Toast.Provider>
    </Context.Provider>
  );
}
