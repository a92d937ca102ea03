import { describe, expect, it } from "vitest";
import { linesAt, navigation, pages, searchable, touches } from "./pages";

/** sources are all files of the console as text, by path. */
const sources: Record<string, string> = import.meta.glob("./**/*.{ts,tsx}", {
  query: "?raw",
  import: "default",
  eager: true,
});
const written = Object.entries(sources).filter(([path]) => !/\.(test|gen)\./.test(path));

describe("pages", () => {
  it("have paths of their own, and names of their own", () => {
    expect(new Set(pages.map((p) => p.path)).size).toBe(pages.length);
    for (const hq of [false, true])
      for (const of of [navigation(hq).map((n) => n.name), searchable(hq).map((h) => h.to)]) {
        expect(new Set(of).size).toBe(of.length);
        expect(of.includes("Sites") || of.includes("/sites")).toBe(hq);
      }
  });
  it("show the command lines of what they do, with the names of their path", () => {
    expect(linesAt("/drives/ZU006")).toContain("lantern swap plan ZU006");
    expect(linesAt("/pools/old pool")).toContain("lantern scrub 'old pool'");
    expect(linesAt("/pools/it's")).toContain("lantern scrub 'it'\\''s'");
    expect(linesAt("/bays/skerry")).toContain("lantern light list");
    expect(linesAt("/nothing")).toEqual([]);
    for (const p of pages.filter((x) => x.name)) expect(p.lines?.length, p.path).toBeGreaterThan(0);
  });
  it("can all be loaded from a file that exists", () => {
    const text = sources["./pages.ts"] ?? "";
    const loaded = [...text.matchAll(/import\("\.\/([^"]+)"\)/g)].map((m) => m[1]);
    expect(loaded).toHaveLength(pages.length);
    for (const f of loaded) expect(sources[`./${f}.tsx`]).toContain("export default function");
  });
  it("list every query that is asked, and no other", () => {
    const registered = [
      ...Object.keys(Object.assign({}, ...pages.map((p) => p.queries ?? {}))),
      "me",
      "ready",
      "lab",
      "search",
    ];
    const asked = new Set(
      written.flatMap(([, text]) => [...text.matchAll(/queryKey: \["([a-z-]+)"/g)].map((m) => m[1]!)),
    );
    expect([...asked].sort()).toEqual(registered.sort());
  });
  it("say for every kind of event what it makes old", () => {
    const schema = Object.entries(sources).find(([path]) => path.includes("schema.gen"))?.[1] ?? "";
    expect(schema.length).toBeGreaterThan(1000);
    const kinds = schema.match(/ {8}Event: \{[\s\S]*?kind:([^;]*);/s)?.[1]?.match(/[a-z]+/g) ?? [];
    expect(kinds.length).toBeGreaterThan(10);
    for (const k of kinds) expect(touches[k as keyof typeof touches], k).toBeDefined();
  });
});
