import { expect, it } from "vitest";
import type { S } from "../api/client";
import { labelOf } from "./horizon";

const block = (more: Partial<S["HorizonBlock"]> = {}): S["HorizonBlock"] => ({
  name: "hall 1",
  places: 1,
  pools: 3,
  known: true,
  margin: 2,
  below: 0,
  moving: 0,
  capacity_bytes: 3e12,
  used_bytes: 1e12,
  measured_bytes: 3e12,
  ...more,
});

it("says what is worst, and what is not known", () => {
  expect(labelOf(block())).toBe("hall 1: 3 pools, each can lose 2 more; 33 % of 3.00 TB full");
  expect(labelOf(block({ known: false }))).toContain("of some the margin is unknown");
  expect(labelOf(block({ margin: -1 }))).toContain("one has lost data");
  expect(labelOf(block({ margin: 0, below: 1, moving: 2 }))).toContain(
    "one cannot lose another drive; 1 below their whole margin; 2 recovering",
  );
  expect(labelOf(block({ measured_bytes: 2e12 }))).toContain("50 % of 2.00 TB full, 1.00 TB not known");
  expect(labelOf(block({ measured_bytes: 0, used_bytes: 0 }))).toContain("how full is not known");
  expect(labelOf(block({ name: "", places: 38 }))).toContain("38 more places: ");
});
