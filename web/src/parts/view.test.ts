import { describe, expect, it } from "vitest";
import { inside, type View } from "./view";

describe("the part of a time axis", () => {
  const whole: View = [1000, 11_000];
  it.each<[string, View, View | null]>([
    ["stays where it fits", [2000, 3000], [2000, 3000]],
    ["does not begin before the whole", [500, 1500], [1000, 2000]],
    ["does not end after the whole", [10_500, 11_500], [10_000, 11_000]],
    ["is never closer than a minute", [5000, 5010], [5000, 5060]],
    ["is the whole when it is as wide", [0, 20_000], null],
  ])("%s", (_, part, want) => expect(inside(part, whole)).toEqual(want));
});
