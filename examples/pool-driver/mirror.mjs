// A pool program for toy mirrors of plain files, one in each given folder. See docs/pool-driver.md.
//
//   node mirror.mjs /srv/toy              report the mirror in /srv/toy and take its orders
//   node mirror.mjs --make /srv/toy 8     make one there first: two files of 8 MiB
//
// A mirror is a folder: mirror.json has the file of each place and the checksum of each block.
import { createHash, randomBytes } from "node:crypto";
import fs from "node:fs";
import path from "node:path";
import readline from "node:readline";

const block = 64 * 1024;
const sum = (b) => createHash("sha256").update(b).digest("hex").slice(0, 16);

/** Refusal is an error with a code of the protocol. */
class Refusal extends Error {
  constructor(code, message) {
    super(message);
    this.code = code;
  }
}
const noSuchPool = (id) => new Refusal(-32001, `unknown pool: ${id}`);
const notOffered = (what) => new Refusal(-32002, `a toy mirror has no ${what}`);

class Mirror {
  constructor(dir) {
    this.dir = dir;
    this.file = path.join(dir, "mirror.json");
    this.state = JSON.parse(fs.readFileSync(this.file, "utf8"));
    // Recoveries that a stop of this program interrupted continue.
    for (const r of this.state.recoveries) if (r.state === "running") this.work(r);
  }

  keep() {
    fs.writeFileSync(this.file + ".new", JSON.stringify(this.state));
    fs.renameSync(this.file + ".new", this.file);
  }

  bytes() {
    return this.state.sums.length * block;
  }

  /** A member is whole when its file is there and long enough, and nothing is still to be filled. */
  stateOf(m) {
    try {
      if (fs.statSync(m.path).size < this.bytes()) return "missing";
    } catch {
      return "missing";
    }
    return m.filled ? "online" : "recovering";
  }

  read(m, i) {
    const b = Buffer.alloc(block);
    const f = fs.openSync(m.path, "r");
    try {
      fs.readSync(f, b, 0, block, i * block);
    } finally {
      fs.closeSync(f);
    }
    return b;
  }

  write(m, i, b) {
    const f = fs.openSync(m.path, "r+");
    try {
      fs.writeSync(f, b, 0, block, i * block);
      fs.fsyncSync(f);
    } finally {
      fs.closeSync(f);
    }
  }

  /** good is block i as some member holds it and as it ought to be. */
  good(i, not) {
    for (const m of this.state.members) {
      if (m === not || this.stateOf(m) !== "online") continue;
      try {
        const b = this.read(m, i);
        if (sum(b) === this.state.sums[i]) return b;
      } catch {
        /* another may hold it */
      }
    }
  }

  tell() {
    const s = this.state;
    return {
      id: s.id,
      name: path.basename(this.dir),
      kind: "files",
      capacity_bytes: this.bytes(),
      used_bytes: this.bytes(),
      groups: [
        {
          name: "files",
          protection: { words: "two-way mirror", tolerance: s.members.length - 1, data: 1 },
          members: s.members.map((m) => ({
            slot: m.slot,
            state: this.stateOf(m),
            size_bytes: this.bytes(),
            used_bytes: this.bytes(),
            needs_bytes: this.bytes(),
            errors: m.errors,
          })),
        },
      ],
      volumes: [],
      spares: [],
      logs: [],
      offers: ["join", "scrub", "stop"],
      recoveries: s.recoveries.slice(-5),
    };
  }

  running() {
    return this.state.recoveries.find((r) => r.state === "running");
  }

  begin(kind, slot) {
    const running = this.running();
    if (running) throw new Refusal(-32000, `a ${running.kind} is running`);
    const r = {
      id: `${kind}-${Date.now()}-${randomBytes(3).toString("hex")}`,
      kind,
      state: "running",
      started_at: new Date().toISOString(),
      done_bytes: 0,
      todo_bytes: this.bytes(),
      found: 0,
      repaired: 0,
      unrepairable: 0,
    };
    if (slot) r.slot = slot;
    this.state.recoveries.push(r);
    this.keep();
    this.work(r);
    return r;
  }

  /** work does a few blocks at a time, so that questions are answered in between. */
  work(r) {
    const step = () => {
      if (r.state !== "running") return;
      for (let n = 0; n < 4 && r.done_bytes < r.todo_bytes; n++) {
        this.block(r, r.done_bytes / block);
        r.done_bytes += block;
      }
      if (r.done_bytes < r.todo_bytes) return void setTimeout(step, 5);
      r.state = "finished";
      r.ended_at = new Date().toISOString();
      const m = this.state.members.find((x) => x.slot === r.slot);
      if (m && r.unrepairable === 0) m.filled = true;
      this.keep();
    };
    setTimeout(step, 0);
  }

  block(r, i) {
    for (const m of this.state.members) {
      if (r.slot ? m.slot !== r.slot : this.stateOf(m) !== "online") continue;
      let bad = true;
      try {
        bad = sum(this.read(m, i)) !== this.state.sums[i];
      } catch {
        m.errors.read++;
      }
      if (!bad) continue;
      if (!r.slot) {
        r.found++;
        m.errors.checksum++;
      }
      const b = this.good(i, m);
      if (!b) {
        r.unrepairable++;
        continue;
      }
      this.write(m, i, b);
      if (!r.slot) r.repaired++;
    }
  }

  join(slot, file) {
    const m = this.state.members.find((x) => x.slot === slot);
    if (!m) throw new Refusal(-32602, `unknown place: ${slot}`);
    if (this.stateOf(m) !== "missing")
      throw new Refusal(-32000, `place ${slot} is ${this.stateOf(m)}: it cannot be given to another drive`);
    if (this.running()) throw new Refusal(-32000, `a ${this.running().kind} is running`);
    if (fs.existsSync(file) && fs.statSync(file).size > 0)
      throw new Refusal(-32000, `${file} is not empty, and is not overwritten`);
    const f = fs.openSync(file, "a");
    fs.ftruncateSync(f, this.bytes());
    fs.closeSync(f);
    Object.assign(m, { path: file, filled: false, errors: { read: 0, write: 0, checksum: 0 } });
    this.begin("rebuild", slot);
    return `${file} is at place ${slot} and is filled`;
  }

  stop() {
    const r = this.running();
    if (!r || r.slot) throw new Refusal(-32000, "nothing runs that could be stopped");
    Object.assign(r, { state: "stopped", ended_at: new Date().toISOString() });
    this.keep();
    return "the scrub has stopped";
  }
}

function make(dir, mib) {
  fs.mkdirSync(dir, { recursive: true });
  const data = randomBytes(mib * 1024 * 1024);
  const members = ["a", "b"].map((slot) => ({
    slot,
    path: path.join(dir, slot + ".file"),
    filled: true,
    errors: { read: 0, write: 0, checksum: 0 },
  }));
  for (const m of members) fs.writeFileSync(m.path, data);
  const sums = [];
  for (let i = 0; i < data.length; i += block) sums.push(sum(data.subarray(i, i + block)));
  fs.writeFileSync(
    path.join(dir, "mirror.json"),
    JSON.stringify({ id: randomBytes(8).toString("hex"), members, sums, recoveries: [] }),
  );
}

if (process.argv[2] === "--make") {
  make(process.argv[3], Number(process.argv[4] ?? 8));
  process.exit(0);
}

const mirrors = process.argv.slice(2).map((dir) => new Mirror(dir));
const find = (id) =>
  mirrors.find((m) => m.state.id === id) ??
  (() => {
    throw noSuchPool(id);
  })();
const methods = {
  hello: () => ({ protocol: 1, name: "toy-mirror", version: "1" }),
  pools: () => ({ pools: mirrors.map((m) => m.tell()) }),
  begin: ({ pool, kind }) => {
    const m = find(pool);
    if (kind !== "scrub") throw notOffered(kind);
    return { observed: `the ${m.begin("scrub").kind} has begun` };
  },
  join: ({ pool, slot, path: file }) => ({ observed: find(pool).join(slot, file) }),
  stop: ({ pool }) => ({ observed: find(pool).stop() }),
};

const say = (message) => process.stdout.write(JSON.stringify({ jsonrpc: "2.0", ...message }) + "\n");
const lines = readline.createInterface({ input: process.stdin });
lines.on("close", () => process.exit(0)); // the agent has ended
lines.on("line", (line) => {
  let id = null;
  try {
    const q = JSON.parse(line);
    id = q.id ?? null;
    const method = Object.hasOwn(methods, q.method) ? methods[q.method] : undefined;
    if (!method) throw new Refusal(-32601, `unknown method: ${q.method}`);
    say({ id, result: method(q.params ?? {}) });
  } catch (e) {
    const code = e instanceof Refusal ? e.code : e instanceof SyntaxError ? -32700 : -32603;
    say({ id, error: { code, message: e.message } });
  }
});
