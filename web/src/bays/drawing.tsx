import { useQuery } from "@tanstack/react-query";
import { memo, useLayoutEffect, useRef, useState, type RefObject } from "react";
import { client, got, type S } from "../api/client";
import { useNow } from "../api/live";
import { Shape } from "../parts/parts";

export const useBays = (host?: string) =>
  useQuery({
    queryKey: ["bays", host],
    queryFn: () => got(client.GET("/hosts/{host}/bays", { params: { path: { host: host! } } })),
    enabled: !!host,
  });

/** Place is a small drawing of an enclosure's section with one bay marked: where to go, at a glance. */
export function Place({ bay, tone = "text-ink", width = 92 }: { bay: string; tone?: string; width?: number }) {
  const [host, section, number] = bay.split("/");
  const map = useBays(host);
  const sec = map.data?.sections.find((s) => s.name === section);
  if (!sec) return <span className="block" style={{ width, height: 56 }} />;
  const [w, h] = sec.upright ? [7, 22] : [20, 7];
  const gap = 2;
  const W = sec.columns * (w + gap) + gap;
  const H = sec.rows * (h + gap) + gap;
  return (
    <svg
      viewBox={`-2 -2 ${W + 4} ${H + 4}`}
      width={width}
      role="img"
      aria-label={`bay ${number} of ${section} of ${host}`}
      className={`shrink-0 ${tone}`}
      style={{ maxHeight: 64 }}
    >
      <rect x="-1" y="-1" width={W + 2} height={H + 2} rx="2" fill="none" stroke="var(--edge)" />
      {sec.bays.map((b) => {
        const here = b.number === Number(number);
        return (
          <rect
            key={b.number}
            x={gap + b.column * (w + gap)}
            y={gap + b.row * (h + gap)}
            width={w}
            height={h}
            rx="1"
            fill={here ? "currentColor" : "var(--raised)"}
            stroke={here ? "currentColor" : "none"}
            strokeWidth="2"
          />
        );
      })}
    </svg>
  );
}

export const layers = ["verdict", "pool", "temperature", "age", "latency", "test age"] as const;
export type Layer = (typeof layers)[number];

/** value is what a layer shows of a bay, in words, and its position on the scale of the layer. */
function value(b: S["Bay"], layer: Layer, now: number): { text: string; share?: number } {
  switch (layer) {
    case "pool":
      return { text: b.pool ?? "no pool" };
    case "temperature":
      return b.temperature_celsius
        ? { text: `${Math.round(b.temperature_celsius)} °C`, share: (b.temperature_celsius - 20) / 40 }
        : { text: "unknown" };
    case "age":
      return b.power_on_hours
        ? { text: `${(b.power_on_hours / 8766).toFixed(1)} y`, share: b.power_on_hours / 8766 / 7 }
        : { text: "unknown" };
    case "latency":
      return b.latency_seconds
        ? {
            text: `${(b.latency_seconds * 1000).toPrecision(2)} ms`,
            share: Math.log10(b.latency_seconds * 1000 + 1) / 2,
          }
        : { text: "unknown" };
    case "test age": {
      if (!b.tested_at) return { text: "never" };
      const days = (now - Date.parse(b.tested_at)) / 86_400_000;
      return { text: days < 1 ? "today" : `${Math.floor(days)} d`, share: days / 40 };
    }
  }
  return { text: b.tail ?? "" };
}

/**
 * Host draws all sections of a host, those of one enclosure beside each other where there is room: front, rear,
 * inside.
 */
export function HostMap({
  host,
  sections,
  layer,
  chosen,
  choose,
}: {
  host: string;
  sections: S["Section"][];
  layer: Layer;
  chosen?: string;
  choose: (address: string) => void;
}) {
  return (
    <div className="flex flex-wrap gap-x-6 gap-y-5">
      {sections.map((s) => (
        <SectionMap key={s.name} host={host} section={s} layer={layer} chosen={chosen} choose={choose} />
      ))}
    </div>
  );
}

/** Section draws a grid of bays to scale, as seen by a person in front of it. Bays far out of sight are not drawn. */
function SectionMap({
  host,
  section: s,
  layer,
  chosen,
  choose,
}: {
  host: string;
  section: S["Section"];
  layer: Layer;
  chosen?: string;
  choose: (address: string) => void;
}) {
  // Only ages depend on the clock, and they change daily, so bays are not drawn every second.
  const now = Math.floor(useNow().getTime() / 600_000) * 600_000;
  const cell = s.upright ? 3.6 : 5;
  const wide = s.columns * (cell + 0.25) + 1;
  const figure = useRef<HTMLElement>(null);
  const room = useRoom(figure, s.columns);
  return (
    <figure
      ref={figure}
      className="min-w-0 max-w-full"
      style={{
        flex: `${s.columns} 1 ${Math.min(wide, 50)}rem`,
        contentVisibility: "auto",
        containIntrinsicSize: `auto ${wide}rem auto ${s.rows * (s.upright ? 7.25 : 3.25) + 3}rem`,
      }}
    >
      <figcaption className="mb-2 font-semibold">
        {host} / {s.name} <span className="font-normal text-soft">{s.bays.length} bays, seen from where you stand</span>
      </figcaption>
      <div className="overflow-x-auto pb-1">
        <div
          className="grid gap-1 rounded-md border-2 border-edge bg-sheet p-1.5"
          style={{ gridTemplateColumns: `repeat(${s.columns}, minmax(${s.upright ? 1.6 : 3}rem, 1fr))` }}
        >
          {s.bays.map((b) => (
            <BayCell
              key={b.number}
              bay={b}
              upright={s.upright}
              room={room}
              layer={layer}
              on={b.address === chosen}
              choose={choose}
              now={layer === "test age" ? now : 0}
            />
          ))}
        </div>
      </div>
    </figure>
  );
}

type Room = "little" | "some" | "much";

/** useRoom is how much room the text of a bay has, by the width of its section: one answer for all of its bays. */
function useRoom(figure: RefObject<HTMLElement | null>, columns: number): Room {
  const [room, set] = useState<Room>("some");
  useLayoutEffect(() => {
    const e = figure.current;
    if (!e) return;
    const look = (width: number) => {
      const rem = width / parseFloat(getComputedStyle(document.documentElement).fontSize);
      const bay = (rem - 1 - 0.25 * (columns - 1)) / columns; // without the edge of the section and the gaps
      set(bay < 2.7 ? "little" : bay < 4 ? "some" : "much");
    };
    look(e.clientWidth);
    const watch = new ResizeObserver(([entry]) => entry && look(entry.contentRect.width));
    watch.observe(e);
    return () => watch.disconnect();
  }, [figure, columns]);
  return room;
}

const fills: Record<string, string> = {
  replace: "bg-replace-sheet border-replace",
  dead: "bg-dead-sheet border-dead",
  watch: "bg-watch-sheet border-watch",
};

/** described says in words what the marks of a bay mean, after its number. */
function described(b: S["Bay"], layer: Layer): string {
  if (!b.drive) return b.lit ? ", lit" : "";
  return [
    `, ${layer === "verdict" ? (b.pool ?? "no pool") : b.tail}`,
    b.how === "guessed" ? ", a guess" : "",
    `, ${b.verdict}`,
    b.missing ? ", not answering" : "",
    b.says ? `: ${b.says}` : "",
    b.lit ? ", lit" : "",
  ].join("");
}

const BayCell = memo(function BayCell({
  bay: b,
  upright,
  room,
  layer,
  on,
  choose,
  now,
}: {
  bay: S["Bay"];
  upright: boolean;
  room: Room;
  layer: Layer;
  on: boolean;
  choose: (address: string) => void;
  now: number;
}) {
  const more = described(b, layer);
  const { text, share } = b.drive ? value(b, layer, now) : { text: "", share: undefined };
  const loud = layer === "verdict" && b.drive ? (fills[b.verdict ?? ""] ?? "border-line") : "border-line";
  return (
    <button
      onClick={() => choose(b.address)}
      aria-pressed={on}
      style={{ gridRow: b.row + 1, gridColumn: b.column + 1 }}
      className={[
        "relative flex min-w-0 flex-col justify-between overflow-hidden rounded border text-left",
        "aria-pressed:outline-3 aria-pressed:outline-focus",
        upright ? "min-h-28" : "min-h-12",
        loud,
        b.missing || b.how === "guessed" ? "border-dashed" : "",
      ].join(" ")}
    >
      {share !== undefined && (
        <span
          aria-hidden
          className="absolute inset-x-0 bottom-0 -z-0 bg-level opacity-45"
          style={{ height: `${Math.max(4, Math.min(100, share * 100))}%` }}
        />
      )}
      <span
        className={`relative flex w-full flex-wrap items-center gap-x-1 pt-1 ${room === "little" ? "px-1" : "px-1.5"}`}
      >
        <span className="num text-xs text-soft">
          {b.name || b.number}
          {b.how === "guessed" && <b className="text-ink"> ?</b>}
        </span>
        {b.drive && layer === "verdict" && <Shape verdict={b.verdict!} size={14} />}
        {b.lit && <span className="lit ml-auto size-3 rounded-full bg-lamp ring-2 ring-lamp" title="its light is on" />}
      </span>
      <span className={`relative pb-1 ${room === "little" ? "self-center px-1 [writing-mode:vertical-rl]" : "px-1.5"}`}>
        {b.drive ? (
          <span
            className={`tail block truncate tracking-normal ${room === "much" ? "text-[0.8rem]" : "text-[0.75rem]"}`}
          >
            {text}
          </span>
        ) : (
          <span className="text-xs text-faint">{b.unknown ? "unknown" : "empty"}</span>
        )}
      </span>
      <span className="sr-only">{more}</span>
    </button>
  );
});
