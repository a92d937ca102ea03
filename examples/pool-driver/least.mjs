// The least that speaks for a pool: it greets, and tells of two members. Everything else it refuses, and a line that is
// no JSON ends it.
import { createInterface } from "node:readline";

const member = (slot) => ({ slot, state: "online" });
const answers = {
  hello: { protocol: 1, name: "least", version: "1" },
  pools: {
    pools: [
      {
        id: "a1",
        name: "tide",
        kind: "mirror",
        groups: [{ protection: { words: "two-way mirror", tolerance: 1 }, members: [member("1"), member("2")] }],
      },
    ],
  },
};

for await (const line of createInterface({ input: process.stdin })) {
  const { id, method } = JSON.parse(line);
  const result = answers[method];
  const answer = result ? { result } : { error: { code: -32601, message: `${method} is not known here` } };
  console.log(JSON.stringify({ jsonrpc: "2.0", id, ...answer }));
}
