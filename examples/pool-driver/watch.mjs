// A pool program that only watches: it reports toy mirrors and takes no orders. It is the smallest possible program; swaps
// in its pools have steps by hand. See docs/pool-driver.md.
//
//   node watch.mjs /srv/toy              report the mirror in /srv/toy, made by mirror.mjs --make
import fs from "node:fs";
import path from "node:path";
import readline from "node:readline";

const block = 64 * 1024;

/** member is one place: whole when its file is there and long enough, and nothing is still to be filled. */
function member(m, bytes) {
  let state = m.filled ? "online" : "recovering";
  try {
    if (fs.statSync(m.path).size < bytes) state = "missing";
  } catch {
    state = "missing";
  }
  // A member that is a device would be named here by its path, as drive; files are none.
  return {
    slot: m.slot,
    state,
    size_bytes: bytes,
    used_bytes: bytes,
    needs_bytes: bytes,
    errors: { read: 0, write: 0, checksum: 0 },
  };
}

/** pool is one mirror as the protocol has it. It offers nothing, so nothing is ever asked of it. */
function pool(dir) {
  const s = JSON.parse(fs.readFileSync(path.join(dir, "mirror.json"), "utf8"));
  const bytes = s.sums.length * block;
  const protection = { words: "toy mirror", tolerance: s.members.length - 1, data: 1 };
  return {
    id: s.id,
    name: path.basename(dir),
    kind: "mirror",
    capacity_bytes: bytes,
    used_bytes: bytes,
    groups: [{ name: "mirror", protection, members: s.members.map((m) => member(m, bytes)) }],
    volumes: [{ name: "files", protection, used_bytes: bytes }],
    spares: [],
    logs: [],
    offers: [],
  };
}

const dirs = process.argv.slice(2);
const methods = {
  hello: () => ({ protocol: 1, name: "toywatch", version: "1" }),
  pools: () => ({ pools: dirs.map(pool) }),
};

for await (const line of readline.createInterface({ input: process.stdin })) {
  let ask;
  try {
    ask = JSON.parse(line);
  } catch {
    continue; // what is no JSON cannot be answered
  }
  const answer = { jsonrpc: "2.0", id: ask.id };
  try {
    if (methods[ask.method]) answer.result = methods[ask.method](ask.params);
    else answer.error = { code: -32601, message: `unknown method: ${ask.method}` };
  } catch (e) {
    answer.error = { code: -32000, message: String(e.message ?? e) };
  }
  process.stdout.write(JSON.stringify(answer) + "\n");
}
