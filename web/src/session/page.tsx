import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { client, got } from "../api/client";
import { go, here, root } from "../api/root";

/** back is the page to return to after sign-in: one of this console, or the round. */
export const back = (to: string | null) => (to && /^\/(?![/\\])/.test(to) && !to.startsWith("/sign-in") ? to : "/");

/** backKey is its storage key during the sign-in at an identity provider. */
const backKey = "back-to";

/** returned goes to that page after the sign-in at an identity provider. */
export function returned() {
  const to = sessionStorage.getItem(backKey);
  if (!to || here() !== "/") return;
  sessionStorage.removeItem(backKey);
  history.replaceState(null, "", root + back(to));
}

export function SignIn() {
  const [token, setToken] = useState("");
  const [params] = useSearchParams();
  const ways = useQuery({ queryKey: ["ready"], queryFn: () => got(client.GET("/ready")), retry: false });
  const enter = useMutation({
    mutationFn: () => got(client.POST("/session", { body: { token: token.trim() } })),
    onSuccess: () => go(back(params.get("to"))),
  });
  return (
    <main className="mx-auto flex min-h-dvh max-w-md flex-col justify-center gap-5 px-4">
      <h1>Brave Lantern</h1>
      {params.get("why") === "link" && (
        <p className="sheet border-watch p-4">
          That link was used already, or is too old. Sign in with your token instead.
        </p>
      )}
      {params.get("why") === "provider-silent" && (
        <p className="sheet border-watch p-4">The identity provider does not answer. Your token still works.</p>
      )}
      {params.get("why") === "provider-refused" && (
        <p className="sheet border-watch p-4">
          The identity provider did not let you in, or gives you no role here. Ask an admin; your token still works.
        </p>
      )}
      {ways.data?.provider && (
        <a
          className="button main w-full text-center"
          href={`${root}/sign-in/provider`}
          onClick={() => sessionStorage.setItem(backKey, back(params.get("to")))}
        >
          Sign in with your organisation
        </a>
      )}
      <form
        className="sheet space-y-4 p-5"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
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
          <span className="block text-sm text-soft">
            {document.documentElement.dataset.practice
              ? "This rehearsal printed a link when it started. Its token is in client.yaml in its folder; " +
                "the token of the real service is not valid here."
              : "The first start of the service printed one for the administrator; " +
                "everybody else gets theirs from: lantern person add."}
          </span>
        </label>
        <button className="button main w-full" disabled={enter.isPending}>
          Sign in
        </button>
        {enter.error && <p role="alert">{enter.error.message}</p>}
      </form>
    </main>
  );
}
