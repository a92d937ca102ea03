/** cell writes one value of a CSV file (RFC 4180); what a spreadsheet would run is made harmless. */
const cell = (v: unknown) => {
  const s = String(v ?? "");
  const harmless = /^[=+\-@\t\r]/.test(s) && !/^-?\d/.test(s) ? `'${s}` : s;
  return /[",\r\n]/.test(harmless) ? `"${harmless.replaceAll('"', '""')}"` : harmless;
};

/** csv is a table as a file: heads, then a line for each row. */
export const csv = (heads: string[], rows: unknown[][]) =>
  [heads, ...rows].map((r) => r.map(cell).join(",")).join("\r\n") + "\r\n";

/** save hands a text to the browser as a file. */
export function save(name: string, text: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: "text/csv;charset=utf-8" }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
