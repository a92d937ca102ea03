import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { client, got } from "../api/client";
import { Command } from "../parts/command";
import { root } from "../api/root";

/** Welcome leads to a first watched fleet in three steps, which are marked as done by themselves. */
export function Welcome() {
  const hosts = useQuery({ queryKey: ["hosts"], queryFn: () => got(client.GET("/hosts")) });
  const people = useQuery({ queryKey: ["people"], queryFn: () => got(client.GET("/people")), retry: false });
  const channels = useQuery({ queryKey: ["channels"], queryFn: () => got(client.GET("/channels")), retry: false });
  const [name, setName] = useState("");
  const all = hosts.data ?? [];
  const reporting = all.filter((h) => h.state === "reporting");
  const placed = all.filter((h) => h.room);
  const told = (people.data?.length ?? 1) > 1 || (channels.data?.length ?? 0) > 0;
  const host = name.trim() || "skerry";
  const steps = [
    {
      done: reporting.length > 0,
      title: "Invite your hosts",
      says: reporting.length
        ? `${reporting.length} of ${all.length} report: ${reporting.map((h) => h.name).join(", ")}`
        : all.length
          ? `${all.map((h) => h.name).join(", ")}: no report has come yet`
          : "none is enrolled yet",
      body: (
        <>
          <label className="block max-w-xs space-y-1.5">
            <span className="text-sm">Name of the host</span>
            <input className="field" placeholder="skerry" value={name} onChange={(e) => setName(e.target.value)} />
          </label>
          <p className="text-sm text-soft">Here, or wherever the command line is set up. It prints a token, once:</p>
          <Command line={`lantern host enrol ${host}`} />
          <p className="text-sm text-soft">On the host, as root, with that token in place of the dots:</p>
          <Command line={`LANTERN_HOST_TOKEN=... lantern agent --host ${host} --server ${location.origin}${root}`} />
        </>
      ),
    },
    {
      done: placed.length > 0,
      title: "Name rooms and enclosures",
      says: placed.length
        ? `${placed.map((h) => `${h.name} in ${h.room}`).join(", ")}`
        : "so that people find the bays",
      body: (
        <>
          <Command line={`lantern host room ${host} "stone house"`} />
          <p className="text-sm text-soft">
            Enclosures that report their bays are drawn automatically. Describe others under{" "}
            <Link to="/bays" className="underline underline-offset-2">
              Bays
            </Link>
            .
          </p>
        </>
      ),
    },
    {
      done: told,
      title: "Tell people",
      says: told ? "others have a token, or notices are sent" : "nobody but you knows of this yet",
      body: (
        <>
          <Command line="lantern person add bo --role operator" />
          <p className="text-sm text-soft">
            Where notices go is set under{" "}
            <Link to="/notices" className="underline underline-offset-2">
              Notices
            </Link>
            .
          </p>
        </>
      ),
    },
  ];
  const next = steps.findIndex((s) => !s.done);
  return (
    <ol aria-label="First steps" className="sheet divide-y divide-line">
      {steps.map((s, i) => (
        <li key={s.title} className="grid grid-cols-[2rem_1fr] gap-x-3 p-4">
          <span aria-hidden className={`text-xl ${s.done ? "text-accent" : "text-soft"}`}>
            {s.done ? "✓" : i + 1}
          </span>
          <div className="min-w-0 space-y-3">
            <p>
              <b>{s.title}</b>
              {s.done && <span className="sr-only">, done</span>}: <span className="text-soft">{s.says}</span>
            </p>
            {i === next && s.body}
          </div>
        </li>
      ))}
    </ol>
  );
}
