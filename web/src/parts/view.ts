/** View is the part of a time axis that is shown, in seconds. */
export type View = [number, number];

/** inside limits a view to the whole axis and to at least a minute. */
export function inside([from, to]: View, [first, last]: View): View | null {
  const wide = Math.max(60, to - from);
  if (wide >= last - first) return null;
  const start = Math.min(Math.max(from, first), last - wide);
  return [start, start + wide];
}
