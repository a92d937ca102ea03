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
