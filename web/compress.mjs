// Lays a compressed copy beside each program and style, at its best: that takes too long for each answer.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { URL } from "node:url";
import { brotliCompressSync } from "node:zlib";

const dir = new URL("dist/assets/", import.meta.url);
for (const file of readdirSync(dir).filter((f) => /\.(js|css)$/.test(f)))
  writeFileSync(new URL(`${file}.br`, dir), brotliCompressSync(readFileSync(new URL(file, dir))));
