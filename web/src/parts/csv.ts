/** cell writes one value of a CSV file (RFC 4180), so that a spreadsheet does not take it for a formula. */
const cell = (v: unknown) => {
  const s = String(v ?? "");
  const harmless = /^[=+\-@\t\r]/.test(s) && !/^-?\d+(\.\d+)?$/.test(s) ? `'${s}` : s;
  return /[",\r\n]/.test(harmless) ? `"${harmless.replaceAll('"', '""')}"` : harmless;
};

/** csv is a table as a file: heads, then a line for each row. */
export const csv = (heads: string[], rows: unknown[][]) =>
  [heads, ...rows].map((r) => r.map(cell).join(",")).join("\r\n") + "\r\n";

/** save saves a text as a file. */
export function save(name: string, text: string, type = "text/csv;charset=utf-8") {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

/** table reads a CSV file (RFC 4180): its heads, and of each further row its cells and the line that it begins on. */
export function table(text: string): { heads: string[]; rows: { line: number; cells: string[] }[] } {
  const rows: { line: number; cells: string[] }[] = [];
  let cells: string[] = [],
    value = "",
    quoted = false,
    line = 1,
    begins = 1;
  const end = () => {
    cells.push(value);
    if (cells.length > 1 || value !== "") rows.push({ line: begins, cells });
    cells = [];
    value = "";
    begins = line;
  };
  const all = text.replace(/^\ufeff/, "");
  for (let i = 0; i < all.length; i++) {
    const c = all[i];
    if (c === "\n") line++;
    if (quoted) {
      if (c !== '"') value += c;
      else if (all[i + 1] === '"') {
        value += c;
        i++;
      } else quoted = false;
    } else if (c === '"' && value === "") quoted = true;
    else if (c === ",") {
      cells.push(value);
      value = "";
    } else if (c === "\n") end();
    else if (c !== "\r") value += c;
  }
  if (quoted) throw new Error(`A quote that begins in line ${begins} has no end.`);
  if (value !== "" || cells.length > 0) end();
  const [heads, ...rest] = rows;
  if (!heads) throw new Error("The file has no lines. The first names the columns, such as serial,supplier,purchased.");
  for (const r of rest)
    if (r.cells.length !== heads.cells.length)
      throw new Error(`Line ${r.line} has ${r.cells.length} cells, the first line has ${heads.cells.length}.`);
  return { heads: heads.cells.map((h) => h.trim().toLowerCase()), rows: rest };
}

/** plain removes the character that `cell` writes before a value that looks like a formula. */
export const plain = (s: string) => (/^'[=+\-@\t\r]/.test(s) ? s.slice(1) : s);
