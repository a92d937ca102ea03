import { expect, it } from "vitest";
import type { S } from "../api/client";
import { together } from "./horizon";

const pool = (name: string, margin: number, more: Partial<S["Pool"]> = {}) =>
  ({
    id: name,
    name,
    hosts: [name],
    margin: { known: true, members: margin, words: "" },
    full_margin: 2,
    capacity_bytes: 100,
    used_bytes: 40,
    stale: false,
    ...more,
  }) as S["Pool"];

it("is as high as the pool that is worst off, and unknown where one is", () => {
  const room = (p: S["Pool"]) => p.name.slice(0, 1);
  const [a, b] = together([pool("a1", 0), pool("b1", 1, { stale: true }), pool("a2", 2), pool("b2", 2)], room);
  expect(a).toMatchObject({ name: "a", pools: 2, margin: 0, known: true, below: 1, capacity: 200, used: 80 });
  const [c] = together([pool("c1", 2), pool("c2", 2, { used_unknown: true, used_bytes: 0 })], room);
  expect(c).toMatchObject({ capacity: 200, used: 40, measured: 100 });
  expect(b).toMatchObject({ name: "b", pools: 2, margin: 1, known: false, below: 0 });
});

it("leaves no pool out, however many places there are", () => {
  const all = Array.from({ length: 57 }, (_, i) => pool(`p${i}`, i));
  const groups = together(all, (p) => p.name);
  expect(groups.length).toBe(20);
  expect(groups.reduce((n, g) => n + g.pools, 0)).toBe(57);
  expect(groups.at(-1)).toMatchObject({ name: "38 more places", margin: 19, to: "/pools" });
});
