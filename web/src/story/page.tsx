import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { client, got } from "../api/client";
import { Command } from "../parts/command";
import { count, exact } from "../parts/format";
import { Empty, Failed, Title, Waiting } from "../parts/parts";

const kinds = ["drive", "pool", "host"] as const;
type Kind = (typeof kinds)[number];

const back: Record<Kind, (name: string) => string> = {
  drive: (n) => `/drives/${encodeURIComponent(n)}`,
  pool: (n) => `/pools/${encodeURIComponent(n)}`,
  host: (n) => `/bays/${encodeURIComponent(n)}`,
};

/** StoryPage lists the events of a drive, a pool or a host, in order, with the times without data. */
export default function StoryPage() {
  const { kind = "", name = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const days = Number(params.get("days")) || 7;
  const of = kinds.find((k) => k === kind);
  const [to] = useState(() => new Date());
  const from = new Date(to.getTime() - days * 24 * 3600e3);
  const story = useQuery({
    queryKey: ["story", kind, name, days],
    enabled: !!of,
    queryFn: () =>
      got(
        client.GET("/story/{kind}/{name}", {
          params: { path: { kind: of!, name }, query: { from: from.toISOString(), to: to.toISOString() } },
        }),
      ),
  });
  if (!of) return <Empty>Reports exist for drives, pools and hosts.</Empty>;
  if (story.error) return <Failed what="The story" error={story.error} again={() => void story.refetch()} />;
  if (!story.data) return <Waiting rows={8} />;
  const s = story.data;
  return (
    <>
      <Title
        aside={
          <Link to={back[of](name)} className="underline underline-offset-2">
            Back to the {of}
          </Link>
        }
      >
        Report on {s.title}
      </Title>
      <p className="mb-3 flex flex-wrap gap-1" role="group" aria-label="How far back">
        {[1, 7, 30, 90].map((n) => (
          <button
            key={n}
            aria-pressed={days === n}
            onClick={() => setParams({ days: String(n) }, { replace: true })}
            className="num min-h-9 rounded-md px-2.5 text-soft aria-pressed:bg-raised aria-pressed:font-semibold aria-pressed:text-ink"
          >
            {count(n, "day")}
          </button>
        ))}
      </p>
      {s.more && <p className="mb-3 font-semibold">There are more events than shown here. Choose a shorter period.</p>}
      {s.entries.length === 0 && <Empty>No events on these days.</Empty>}
      <ol className="sheet divide-y divide-line">
        {s.entries.map((e, i) => (
          <li
            key={i}
            className={[
              "grid gap-x-4 px-4 py-2 sm:grid-cols-[10.5rem_6rem_1fr]",
              e.what === "unknown" ? "barred font-semibold" : "",
            ].join(" ")}
          >
            <span className="num text-soft">{exact(new Date(e.at))}</span>
            <span className="text-soft">{e.what}</span>
            <span className="min-w-0 break-words">
              {e.who && <b>{e.who}: </b>}
              {e.says}
              {e.until && <span className="text-soft"> until {exact(new Date(e.until))}</span>}
            </span>
          </li>
        ))}
      </ol>
      <div className="mt-4 text-sm text-soft">
        <span className="mb-1 block">The same as a page or as Markdown, for any time:</span>
        <Command line={`lantern story ${of} ${name} --from ${from.toISOString().slice(0, 10)} --html story.html`} />
      </div>
    </>
  );
}
