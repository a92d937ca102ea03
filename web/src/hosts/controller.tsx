import { useState } from "react";
import { client, got, once, type S } from "../api/client";
import { Command } from "../parts/command";
import { useDo } from "../parts/do";
import { exact } from "../parts/format";

/** Controller sets the management controller of a host, which reports bays if no enclosure does. */
export function Controller({ host: h, admin }: { host: S["Host"]; admin: boolean }) {
  const act = useDo("hosts", "bays");
  const [open, setOpen] = useState(false);
  const [url, setUrl] = useState("https://");
  const [user, setUser] = useState("");
  const [password, setPassword] = useState("");
  const [mark, setMark] = useState("");
  const path = { params: { path: { host: h.name } } };
  const has = h.controller?.url ? h.controller : undefined;
  const told = h.agent?.controller;
  if (!has && !admin) return null;
  return (
    <div className="space-y-2">
      {has && (
        <p>
          Management controller <b>{has.url}</b>, as {has.user}:{" "}
          {told?.error ? (
            <b>{told.error}</b>
          ) : told?.url && !told.at.startsWith("0001") ? (
            `${told.bays} bays, read ${exact(new Date(told.at))}`
          ) : (
            "not read yet"
          )}
        </p>
      )}
      {admin && (
        <p className="flex flex-wrap gap-3">
          {!open && (
            <button className="button small" onClick={() => setOpen(true)}>
              {has ? "Change its address" : "Add a management controller"}
            </button>
          )}
          {has && (
            <button
              className="button small"
              disabled={act.isPending}
              onClick={() =>
                act.mutate({
                  ask: () => got(client.DELETE("/hosts/{host}/controller", path)),
                  says: `The agent of ${h.name} no longer asks a management controller.`,
                })
              }
            >
              Remove the controller
            </button>
          )}
        </p>
      )}
      {open && (
        <form
          className="space-y-2"
          onSubmit={(e) => {
            e.preventDefault();
            act.mutate({
              ask: () =>
                got(
                  client.PUT("/hosts/{host}/controller", {
                    params: { path: { host: h.name }, ...once() },
                    body: { url, user, password, fingerprint: mark.trim() },
                  }),
                ),
              says: `The agent of ${h.name} gets it with its next report.`,
              then: () => {
                setOpen(false);
                setPassword("");
              },
            });
          }}
        >
          <p className="text-soft">
            Where no enclosure tells which drive is in which bay, the server's management controller may, by Redfish.
            The address is that under which the host's own agent reaches it; the password is told to that agent alone.
          </p>
          <div className="grid gap-2 sm:grid-cols-2">
            {(
              [
                ["Address", url, setUrl, "url", true],
                ["User", user, setUser, "text", true],
                ["Password", password, setPassword, "password", true],
                ["SHA-256 of its certificate, if it is self-signed", mark, setMark, "text", false],
              ] as const
            ).map(([name, value, set, type, needed]) => (
              <label key={name} className="block text-soft">
                {name}
                <input
                  className="field"
                  type={type}
                  autoComplete="off"
                  required={needed}
                  value={value}
                  onChange={(e) => set(e.target.value)}
                />
              </label>
            ))}
          </div>
          <p className="flex flex-wrap gap-3">
            <button className="button main" disabled={act.isPending}>
              Keep
            </button>
            <button type="button" className="button" onClick={() => setOpen(false)}>
              Cancel
            </button>
          </p>
          <Command
            line={
              `lantern host redfish add ${h.name} --url ${url} --user ${user || "USER"} --password-file FILE` +
              (mark ? ` --certificate ${mark.trim()}` : "")
            }
          />
        </form>
      )}
    </div>
  );
}
