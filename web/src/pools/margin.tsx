import type { S } from "../api/client";

/** MarginWords is a margin in figures and words; a reduced one is emphasized. */
export function MarginWords({ pool: p }: { pool: S["Pool"] }) {
  if (!p.margin.known) return <span className="font-semibold">margin unknown</span>;
  const below = p.margin.members < p.full_margin;
  return (
    <span className="flex items-baseline gap-2.5">
      <b className={`num text-3xl leading-none ${below ? "text-replace" : ""}`}>{p.margin.members}</b>
      <span>
        {p.margin.words}
        {p.margin.limited_by && <span className="block text-sm text-soft">limited by {p.margin.limited_by}</span>}
        {below && <span className="block text-sm text-soft">{p.full_margin} when whole</span>}
      </span>
    </span>
  );
}
