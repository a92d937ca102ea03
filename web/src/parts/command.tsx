import { useState } from "react";

/** Command is a command line to copy. */
export function Command({ line }: { line: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <span className="flex flex-wrap items-center gap-2">
      <code className="rounded border border-line bg-ground px-2 py-1 text-sm break-all">{line}</code>
      <button
        type="button"
        className="button small"
        onClick={() => {
          void navigator.clipboard?.writeText(line).then(() => setCopied(true));
        }}
      >
        {copied ? "Copied" : "Copy"}
      </button>
    </span>
  );
}

/** Same lists the command lines for the actions of a part of a page. */
export function Same({ lines }: { lines: (string | false | undefined)[] }) {
  const all = lines.filter((l): l is string => !!l);
  if (all.length === 0) return null;
  return (
    <details className="no-print text-sm">
      <summary className="min-h-8 cursor-pointer text-soft">The same on the command line</summary>
      <ul className="mt-1 space-y-1.5">
        {all.map((l) => (
          <li key={l}>
            <Command line={l} />
          </li>
        ))}
      </ul>
    </details>
  );
}
