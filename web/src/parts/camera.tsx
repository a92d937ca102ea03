import { Dialog } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { fromLabel } from "./label";

/** usable says whether the browser gives a camera to this page: only over HTTPS, or on this machine. */
const usable = () => Boolean(navigator.mediaDevices?.getUserMedia);

/**
 * ReadLabel is a button that reads a barcode of a label with the camera. Its text goes into a field, where it can be
 * seen and changed, and is checked as if it had been typed.
 */
export function ReadLabel({ read }: { read: (text: string) => void }) {
  const [open, setOpen] = useState(false);
  if (!usable()) return null;
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <button type="button" className="button">
          Read with the camera
        </button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ground opacity-80" />
        <Dialog.Content aria-describedby={undefined} className="sheet dialog top-[4vh] max-w-[36rem] space-y-4 p-5">
          <Dialog.Title className="text-lg font-semibold">Hold the barcode of the label before the camera</Dialog.Title>
          <Camera
            read={(text) => {
              setOpen(false);
              read(text);
            }}
          />
          <Dialog.Close asChild>
            <button type="button" className="button">
              Close, and type it
            </button>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Camera({ read }: { read: (text: string) => void }) {
  const video = useRef<HTMLVideoElement>(null);
  const take = useRef(read);
  take.current = read;
  const [says, setSays] = useState("Starting the camera …");
  useEffect(() => {
    let stop = () => {};
    let over = false;
    void (async () => {
      try {
        const { scan } = await import("./reader"); // as large as the rest of the console
        if (over || !video.current) return;
        stop = await scan(video.current, (code) => {
          const text = fromLabel(code);
          if (!text || over) return;
          over = true;
          stop();
          take.current(text);
        });
        if (over) stop();
        else setSays("Code 128, Data Matrix and QR codes are read. A code with only the WWN is skipped.");
      } catch {
        setSays(
          "The camera cannot be used. Allow it for this page in the browser, or close this and type the label tail.",
        );
      }
    })();
    return () => {
      over = true;
      stop();
    };
  }, []);
  return (
    <>
      {/* A live picture of a label has no words to caption. */}
      <video ref={video} muted playsInline className="max-h-[60vh] w-full bg-black" aria-label="What the camera sees" />
      <p role="status" className="text-soft">
        {says}
      </p>
    </>
  );
}
