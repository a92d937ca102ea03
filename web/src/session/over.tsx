import { useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState, useSyncExternalStore } from "react";
import { resume, signedOut, watchSignedOut, type S } from "../api/client";
import { here, root } from "../api/root";

/**
 * SignInOver asks for a token over the page when the session has ended: typed text stays, and waiting requests
 * continue. Another person gets the first page.
 */
export function SignInOver() {
  const out = useSyncExternalStore(watchSignedOut, signedOut);
  const queries = useQueryClient();
  const [token, setToken] = useState("");
  const [error, setError] = useState("");
  const [busy, setBusy] = useState(false);
  const enter = async () => {
    setBusy(true);
    setError("");
    try {
      const r = await fetch(`${root}/api/v1/session`, {
        method: "POST",
        headers: { "Content-Type": "application/json" },
        body: JSON.stringify({ token: token.trim() }),
      });
      if (!r.ok) throw new Error(((await r.json()) as S["Problem"]).title);
      const me = (await (await fetch(`${root}/api/v1/me`)).json()) as S["Me"];
      const before = queries.getQueryData<S["Me"]>(["me"]);
      if (before && before.name !== me.name) {
        location.reload();
        return;
      }
      setToken("");
      resume();
      void queries.invalidateQueries();
    } catch (e) {
      setError(e instanceof Error ? e.message : String(e));
    } finally {
      setBusy(false);
    }
  };
  return (
    <Dialog.Root open={out}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-50 bg-ground opacity-80" />
        <Dialog.Content
          className="sheet dialog top-[15vh] max-w-[28rem] space-y-4 p-5"
          onEscapeKeyDown={(e) => e.preventDefault()}
          onInteractOutside={(e) => e.preventDefault()}
        >
          <Dialog.Title className="text-xl font-semibold">Your session has ended</Dialog.Title>
          <Dialog.Description className="text-soft">
            Sign in again to go on here. What you typed is still on the page, and nothing of it was sent.
          </Dialog.Description>
          <form
            className="space-y-4"
            onSubmit={(e) => {
              e.preventDefault();
              void enter();
            }}
          >
            <label className="block space-y-1.5">
              <span className="font-semibold">Your token</span>
              <input
                className="field font-mono"
                type="password"
                autoComplete="current-password"
                required
                value={token}
                onChange={(e) => setToken(e.target.value)}
              />
            </label>
            <button className="button main w-full" disabled={busy}>
              Sign in
            </button>
            {error && <p role="alert">{error}</p>}
          </form>
          <p className="text-sm text-soft">
            <a className="underline" href={`${root}/sign-in?to=${encodeURIComponent(here() + location.search)}`}>
              Sign in another way
            </a>{" "}
            and come back to this page; what is typed here is lost then.
          </p>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
