import { describe, expect, it } from "vitest";
import { age, binary, clock, count, decimal, exact, finish, number, percent, span } from "./format";

it.each([
  [0, "0 drives"],
  [1, "1 drive"],
  [2, "2 drives"],
  [2000, "2,000 drives"],
])("%d of them are %s", (n, said) => expect(count(n, "drive")).toBe(said));

describe("sizes", () => {
  it.each([
    [0, "0 B"],
    [999, "999 B"],
    [1000, "1.00 kB"],
    [999_499, "999.50 kB"],
    [999_994, "999.99 kB"],
    [999_995, "1.00 MB"],
    [999_999, "1.00 MB"],
    [1_000_000, "1.00 MB"],
    [4_000_786_153_472, "4.00 TB"],
    [999_999_999_999, "1.00 TB"],
    [5e18, "5000.00 PB"],
  ])("%d bytes are %s", (bytes, said) => expect(decimal(bytes)).toBe(said));

  it.each([
    [1023, "1023 B"],
    [1024, "1.00 KiB"],
    [1024 ** 2 - 1, "1.00 MiB"],
    [4_000_786_153_472, "3.64 TiB"],
  ])("%d bytes are %s in powers of two", (bytes, said) => expect(binary(bytes)).toBe(said));

  it("never shows a thousand of a unit that has a larger one", () => {
    for (let b = 1; b < 1e14; b = Math.ceil(b * 1.003)) {
      expect(parseFloat(decimal(b))).toBeLessThan(1000);
      expect(parseFloat(binary(b))).toBeLessThan(1024);
    }
  });
});

describe("durations", () => {
  it.each([
    [0, "0 s"],
    [59_999, "59 s"],
    [60_000, "1 min"],
    [3_599_000, "59 min"],
    [3_600_000, "1 h 00 min"],
    [47 * 3_600_000 + 5 * 60_000, "47 h 05 min"],
    [48 * 3_600_000, "2 days"],
    [-120_000, "2 min"],
    [200 * 86_400_000, "6 months"],
  ])("%d ms are %s", (ms, said) => expect(span(ms)).toBe(said));

  it.each([
    [0, "under a day"],
    [24, "1 d"],
    [24 * 364, "11 mo 29 d"],
    [24 * 365, "1 y"],
    [24 * (2 * 365 + 140), "2 y 4 mo 18 d"],
  ])("%d hours are %s", (hours, said) => expect(age(hours)).toBe(said));

  it("counts years, months and days without a gap or a step back", () => {
    let before = -1;
    for (let days = 1; days < 4000; days++) {
      const [y, m, d] = ["y", "mo", "d"].map((u) =>
        Number(age(days * 24).match(new RegExp(`(\\d+) ${u}( |$)`))?.[1] ?? 0),
      );
      expect(m).toBeLessThan(12);
      expect(d).toBeLessThan(32);
      const n = y! * 10000 + m! * 100 + d!;
      expect(n).toBeGreaterThan(before);
      before = n;
    }
  });
});

describe("times and numbers", () => {
  const at = new Date(2026, 2, 5, 4, 7, 9);
  it("writes the clock and the date with two digits", () => {
    expect(clock(at)).toBe("04:07");
    expect(exact(at)).toBe("2026-03-05 04:07:09");
  });
  it.each([
    [0, "0"],
    [0.01234, "0.0123"],
    [12345.678, "12,345.68"],
  ])("%d is %s", (v, said) => expect(number(v)).toBe(said));
  it("gives a share with one digit", () => expect(percent(0.3364)).toBe("33.6 %"));
  it("says that no finish is known, and a range where one is", () => {
    expect(finish(at)).toBe("no finish can be estimated yet");
    const in_ = (min: number) => new Date(at.getTime() + min * 60_000).toISOString();
    expect(finish(at, { p10: in_(30), p50: in_(60), p90: in_(150) })).toBe(
      "done in 30 min to 2 h 30 min, likely 05:07",
    );
  });
});
