const units = (by: number, names: string[]) => (bytes: number) => {
  let v = bytes;
  let i = 0;
  // The rounded value decides the unit: 999,999 bytes are 1.00 MB, not 1000.00 kB.
  while ((i === 0 ? v : Number(v.toFixed(2))) >= by && i < names.length - 1) {
    v /= by;
    i++;
  }
  return `${i === 0 ? v : v.toFixed(2)} ${names[i]}`;
};
export const decimal = units(1000, ["B", "kB", "MB", "GB", "TB", "PB"]);
export const binary = units(1024, ["B", "KiB", "MiB", "GiB", "TiB", "PiB"]);

/** count is a number with its noun: "1 drive", "2,000 drives". */
export const count = (n: number, noun: string) => `${n.toLocaleString("en-GB")} ${noun}${n === 1 ? "" : "s"}`;

export function span(ms: number): string {
  const s = Math.abs(ms) / 1000;
  if (s < 60) return `${Math.floor(s)} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min`;
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h ${String(Math.floor((s % 3600) / 60)).padStart(2, "0")} min`;
  if (s < 100 * 86400) return `${Math.floor(s / 86400)} days`;
  return `${Math.floor(s / 86400 / 30.44)} months`;
}

/** age reads hours as years, months and days: a year has 365 days, and a month the twelfth part of that. */
export function age(hours: number): string {
  const days = Math.floor(hours / 24);
  const y = Math.floor(days / 365);
  const rest = days % 365;
  const m = Math.floor((rest * 12) / 365);
  const d = rest - Math.ceil((m * 365) / 12);
  return (
    [
      [y, "y"],
      [m, "mo"],
      [d, "d"],
    ]
      .filter(([n]) => Number(n) > 0)
      .map(([n, unit]) => `${n} ${unit}`)
      .join(" ") || "under a day"
  );
}

const two = (n: number) => String(n).padStart(2, "0");
export const clock = (d: Date) => `${two(d.getHours())}:${two(d.getMinutes())}`;
export const exact = (d: Date) =>
  `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${clock(d)}:${two(d.getSeconds())}`;
export const day = (d: Date) => d.toLocaleDateString("en-GB", { weekday: "short", day: "numeric", month: "short" });

export const number = (v: number) =>
  v !== 0 && Math.abs(v) < 1 ? v.toPrecision(3) : v.toLocaleString("en-GB", { maximumFractionDigits: 2 });

export const percent = (share: number) => `${(100 * share).toFixed(1)} %`;

export function finish(now: Date, r?: { p10: string; p50: string; p90: string }): string {
  if (!r) return "no finish can be estimated yet";
  const in_ = (t: string) => span(Date.parse(t) - now.getTime());
  return `done in ${in_(r.p10)} to ${in_(r.p90)}, likely ${clock(new Date(r.p50))}`;
}
