import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, once, type S } from "../api/client";
import { useMe } from "../api/live";
import { AskReason } from "../parts/reason";
import { Command } from "../parts/command";
import { useDo } from "../parts/do";
import { count, exact } from "../parts/format";
import { Ago, Empty, Failed, Shape, Title, Waiting } from "../parts/parts";
import { To } from "../parts/to";

/** SitesPage lists the sites of a headquarters, whether each is reachable, and how old its data is. */
export default function SitesPage() {
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => got(client.GET("/sites")), refetchInterval: 15_000 });
  const admin = useMe().data?.role === "admin";
  if (sites.error) return <Failed what="The sites" error={sites.error} again={() => void sites.refetch()} />;
  if (!sites.data) return <Waiting />;
  return (
    <>
      <Title>Sites</Title>
      {sites.data.length === 0 && (
        <Empty>No site was invited. A site is a service with its own hosts that sends its state here.</Empty>
      )}
      <ul className="space-y-2.5">
        {sites.data.map((x) => (
          <Row key={x.name} site={x} admin={admin} />
        ))}
      </ul>
      {admin && <Invite />}
    </>
  );
}

/** counts are the numbers of a site's objects. */
const counts = (x: S["Site"]) =>
  `${count(x.hosts, "host")}, ${count(x.drives, "drive")}, ${count(x.pools, "pool")}; ` +
  `${count(x.in_round, "line")} in its round`;

function Row({ site: x, admin }: { site: S["Site"]; admin: boolean }) {
  const act = useDo("sites", "round", "horizon");
  return (
    <li className={`sheet space-y-2 p-4 ${x.reachable ? "" : "barred border-dashed border-edge"}`}>
      <p className="flex flex-wrap items-baseline gap-x-4">
        <To site={x.name} to="/" className="text-lg font-semibold">
          {x.name}
        </To>
        <span className={x.reachable ? "text-soft" : "font-semibold"}>
          {x.reachable ? "reachable" : "not reachable"}
        </span>
        {x.as_of && (
          <span className="text-soft">
            as of <Ago at={x.as_of} />
          </span>
        )}
      </p>
      {x.says && (
        <p className="flex items-start gap-2">
          <span className="mt-0.5">
            <Shape verdict="unknown" />
          </span>
          <span>
            {x.says.charAt(0).toUpperCase() + x.says.slice(1)}.{x.do && ` ${x.do}.`}
          </span>
        </p>
      )}
      <p className="num text-soft">
        {x.as_of ? counts(x) : "no data"}
        {x.version && `; version ${x.version}`}
        {x.invited_at && `; invited ${exact(new Date(x.invited_at))} by ${x.by ?? "an unknown person"}`}
      </p>
      {admin && (
        <AskReason
          title={`Remove ${x.name}`}
          ask="Reason, for the record"
          go={`Remove ${x.name}`}
          onReason={() =>
            act.mutate({
              ask: () => got(client.DELETE("/sites/{site}", { params: { path: { site: x.name } } })),
              says: `${x.name} is removed. Its own service keeps running.`,
            })
          }
        >
          <p>Its secret ends, and its data is removed here. Its own service keeps running.</p>
          <Command line={`lantern site remove ${x.name}`} />
        </AskReason>
      )}
    </li>
  );
}

function Invite() {
  const [name, setName] = useState("");
  const [told, setTold] = useState<S["InvitedSite"]>();
  const act = useDo("sites");
  return (
    <section aria-labelledby="invite" className="mt-8 border-t border-line pt-4">
      <h2 id="invite" className="mb-3">
        Invite a site
      </h2>
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          act.mutate({
            ask: async () => setTold(await got(client.POST("/sites", { params: once(), body: { name: name.trim() } }))),
            says: `${name.trim()} can connect now.`,
            then: () => setName(""),
          });
        }}
      >
        <label className="block">
          <span className="text-soft">Name: lower-case letters, digits, hyphens</span>
          <input className="field" value={name} onChange={(e) => setName(e.target.value)} placeholder="north" />
        </label>
        <button
          className="button main"
          disabled={act.isPending || !/^[a-z0-9]([a-z0-9-]*[a-z0-9])?$/.test(name.trim())}
        >
          Invite
        </button>
      </form>
      {told && (
        <div className="sheet mt-4 space-y-2 p-4" role="status">
          <p>
            Secret of <b>{told.name}</b>, shown only once. Put it into a file at the site that only its owner can read:
          </p>
          <Command line={told.secret} />
          <p>Then start the service of the site with:</p>
          <Command
            line={`lantern serve --site ${told.name} --report-to ${told.engine} --site-secret-file ${told.name}.secret`}
          />
        </div>
      )}
    </section>
  );
}
