import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type S, type Verdict } from "../api/client";
import { useTell } from "../parts/toast";

type Put = S["ChannelPut"];

const empty: Put & { name: string; receivers: string } = {
  name: "",
  receivers: "",
  kind: "webhook",
  url: "",
  server: "",
  from: "",
  user: "",
  secret: "",
  least: "replace",
  quiet: "",
  zone: Intl.DateTimeFormat().resolvedOptions().timeZone,
  digest: "",
};

/** ChannelForm sets where notices go beside this page. */
export function ChannelForm() {
  const [v, setV] = useState(empty);
  const set = (part: Partial<typeof empty>) => setV({ ...v, ...part });
  const tell = useTell();
  const queries = useQueryClient();
  const put = useMutation({
    mutationFn: () => {
      const { name, receivers, ...body } = v;
      const given = Object.fromEntries(Object.entries(body).filter(([, x]) => x !== "")) as unknown as Put;
      if (receivers.trim()) given.to = receivers.split(/[\s,;]+/).filter(Boolean);
      return got(client.PUT("/channels/{id}", { params: { path: { id: name.trim() } }, body: given }));
    },
    onSuccess: (c) => {
      tell(`${c.name} is saved. Send a test through it.`);
      setV(empty);
      void queries.invalidateQueries({ queryKey: ["channels"] });
    },
    onError: (e: Error) => tell(e.message, true),
  });
  const text = (
    label: string,
    key: keyof typeof empty,
    more: { placeholder?: string; type?: string; required?: boolean } = {},
  ) => (
    <label className="block space-y-1">
      <span className="text-sm">{label}</span>
      <input
        className="field"
        value={String(v[key] ?? "")}
        onChange={(e) => set({ [key]: e.target.value })}
        {...more}
      />
    </label>
  );
  return (
    <details className="sheet mt-4 p-4">
      <summary className="cursor-pointer font-semibold">Set a channel</summary>
      <form
        className="mt-4 grid gap-3 sm:grid-cols-2"
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate();
        }}
      >
        {text("Name", "name", { required: true, placeholder: "night-shift" })}
        <label className="block space-y-1">
          <span className="text-sm">Kind</span>
          <select className="field" value={v.kind} onChange={(e) => set({ kind: e.target.value as Put["kind"] })}>
            <option value="webhook">webhook</option>
            <option value="email">e-mail</option>
            <option value="syslog">syslog</option>
          </select>
        </label>
        {v.kind === "email" ? (
          <>
            {text("Mail server, host:port", "server", { required: true, placeholder: "mail.example:587" })}
            {text("Sender", "from", { required: true, placeholder: "lantern@example" })}
            {text("Recipients, separated by commas", "receivers", {
              required: true,
              placeholder: "ida@example, bo@example",
            })}
            {text("User name", "user")}
            {text("Password; never shown again", "secret", { type: "password" })}
          </>
        ) : (
          <>
            {text("Address", "url", {
              required: true,
              placeholder: v.kind === "webhook" ? "https://pager.example/hook" : "tls://collector.example:6514",
            })}
            {v.kind === "webhook" &&
              text("Secret that signs each message; never shown again", "secret", { type: "password" })}
          </>
        )}
        <label className="block space-y-1">
          <span className="text-sm">Least severity that is sent</span>
          <select className="field" value={v.least} onChange={(e) => set({ least: e.target.value as Verdict })}>
            <option value="watch">watch</option>
            <option value="replace">replace</option>
            <option value="dead">dead</option>
          </select>
        </label>
        {text("Quiet hours: only urgent notices are sent", "quiet", { placeholder: "22:00-07:00" })}
        {text("Once a day what is open, at", "digest", { placeholder: "08:00" })}
        <label className="block space-y-1">
          <span className="text-sm">A report on each</span>
          <select
            className="field"
            value={v.report ?? ""}
            onChange={(e) => set({ report: (e.target.value || undefined) as "week" | "month" | undefined })}
          >
            <option value="">none</option>
            <option value="week">week, on Monday</option>
            <option value="month">month, on the first</option>
          </select>
        </label>
        {text("Time zone of these hours", "zone")}
        <p className="col-span-full">
          <button className="button main" disabled={put.isPending}>
            Set it
          </button>
        </p>
      </form>
    </details>
  );
}
