import { Dialog } from "radix-ui";
import { useState, type ReactNode } from "react";

/** AskReason is a button that asks for a reason before it acts. */
export function AskReason({
  title,
  ask,
  go,
  onReason,
  children,
}: {
  title: string;
  ask: string;
  go: string;
  onReason: (reason: string) => void;
  children?: ReactNode;
}) {
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState("");
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button">{title}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ground opacity-80" />
        <Dialog.Content aria-describedby={undefined} className="sheet dialog top-[12vh] max-w-[32rem] space-y-4 p-5">
          <Dialog.Title className="text-xl font-semibold">{title}</Dialog.Title>
          {children}
          <form
            className="space-y-4"
            onSubmit={(e) => {
              e.preventDefault();
              setOpen(false);
              onReason(reason.trim());
              setReason("");
            }}
          >
            <label className="block space-y-1.5">
              <span className="font-semibold">{ask}</span>
              <textarea
                className="field min-h-20"
                required
                value={reason}
                onChange={(e) => setReason(e.target.value)}
              />
            </label>
            <p className="flex flex-wrap gap-3">
              <button className="button main" disabled={!reason.trim()}>
                {go}
              </button>
              <Dialog.Close className="button">Leave it as it is</Dialog.Close>
            </p>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
