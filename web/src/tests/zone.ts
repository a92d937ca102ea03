/** Wall times of a zone that is not the browser's. */
const formats = new Map<string, Intl.DateTimeFormat>();

export type Wall = { year: number; month: number; day: number; minute: number };

/** Clocks change at a quarter of an hour, so the wall time is looked up once per quarter. */
const quarter = 15 * 60_000;
const known = new Map<string, Map<number, Wall>>();

export function wall(at: number, zone: string): Wall {
  let of = known.get(zone);
  if (!of) known.set(zone, (of = new Map()));
  const from = Math.floor(at / quarter) * quarter;
  let w = of.get(from);
  if (!w) {
    if (of.size > 20_000) of.clear();
    of.set(from, (w = looked(from, zone)));
  }
  return { ...w, minute: w.minute + Math.floor((at - from) / 60_000) };
}

function looked(at: number, zone: string): Wall {
  let f = formats.get(zone);
  if (!f) {
    f = new Intl.DateTimeFormat("en-GB", {
      timeZone: zone,
      year: "numeric",
      month: "numeric",
      day: "numeric",
      hour: "numeric",
      minute: "numeric",
      hourCycle: "h23",
    });
    formats.set(zone, f);
  }
  const part: Record<string, number> = {};
  for (const p of f.formatToParts(at)) part[p.type] = Number(p.value);
  const of = (name: string) => part[name] ?? 0;
  return { year: of("year"), month: of("month"), day: of("day"), minute: of("hour") * 60 + of("minute") };
}

/**
 * midnight is when a day of a zone begins: its first minute, which is not 00:00 where clocks are put forward at
 * midnight. Days may run over their month.
 */
export function midnight(year: number, month: number, day: number, zone: string): number {
  const want = Date.UTC(year, month - 1, day);
  const minute = 60_000;
  // No zone is more than 14 hours from UTC. The date of a zone never goes back, so its first minute can be halved out.
  let before = want - 15 * 60 * minute;
  let from = want + 15 * 60 * minute;
  while (from - before > minute) {
    const at = before + Math.floor((from - before) / 2 / minute) * minute;
    const w = wall(at, zone);
    if (Date.UTC(w.year, w.month - 1, w.day) >= want) from = at;
    else before = at;
  }
  return from;
}

/** dayKey tells days apart, and sorts. */
export const dayKey = (w: Wall) => w.year * 10000 + w.month * 100 + w.day;

/** monday is the Monday of the week that a moment lies in, as a day of its zone. */
export function monday(at: number, zone: string): Wall {
  const w = wall(at, zone);
  const weekday = (new Date(Date.UTC(w.year, w.month - 1, w.day)).getUTCDay() + 6) % 7;
  const d = new Date(Date.UTC(w.year, w.month - 1, w.day - weekday));
  return { year: d.getUTCFullYear(), month: d.getUTCMonth() + 1, day: d.getUTCDate(), minute: 0 };
}

export const plusDays = (w: Wall, n: number): Wall => {
  const d = new Date(Date.UTC(w.year, w.month - 1, w.day + n));
  return { year: d.getUTCFullYear(), month: d.getUTCMonth() + 1, day: d.getUTCDate(), minute: 0 };
};

export const iso = (w: Wall) => `${w.year}-${String(w.month).padStart(2, "0")}-${String(w.day).padStart(2, "0")}`;
export const dayName = (w: Wall) =>
  new Date(Date.UTC(w.year, w.month - 1, w.day)).toLocaleDateString("en-GB", {
    weekday: "short",
    day: "numeric",
    month: "short",
    timeZone: "UTC",
  });
export const clockOf = (minute: number) =>
  `${String(Math.floor(minute / 60)).padStart(2, "0")}:${String(minute % 60).padStart(2, "0")}`;
export const clockIn = (at: string, zone: string) => clockOf(wall(Date.parse(at), zone).minute);
