import { describe, expect, it } from "vitest";
import { clockIn, clockOf, dayKey, dayName, iso, midnight, monday, plusDays, wall } from "./zone";

describe("midnight", () => {
  it.each([
    ["2026-03-29", "Asia/Beirut", "2026-03-28T22:00:00.000Z"], // 00:00 does not exist: clocks go from 23:59 to 01:00
    ["2026-04-24", "Africa/Cairo", "2026-04-23T22:00:00.000Z"], // the same
    ["2026-10-30", "Africa/Cairo", "2026-10-29T22:00:00.000Z"], // 23:00 to 24:00 is there twice the evening before
    ["2026-03-29", "Europe/Berlin", "2026-03-28T23:00:00.000Z"],
    ["2026-10-25", "Europe/Berlin", "2026-10-24T22:00:00.000Z"],
    ["2026-06-01", "Pacific/Kiritimati", "2026-05-31T10:00:00.000Z"], // 14 hours ahead
    ["2026-06-01", "Pacific/Pago_Pago", "2026-06-01T11:00:00.000Z"],
    ["2026-06-01", "Asia/Kathmandu", "2026-05-31T18:15:00.000Z"],
  ])("%s in %s begins at %s", (day, zone, at) => {
    const [y, m, d] = day.split("-").map(Number);
    expect(new Date(midnight(y!, m!, d!, zone)).toISOString()).toBe(at);
  });

  it("is the first minute of its day, in every zone that changes clocks", () => {
    for (const zone of [
      "Asia/Beirut",
      "Africa/Cairo",
      "America/Santiago",
      "America/Havana",
      "Australia/Lord_Howe",
      "Europe/London",
    ]) {
      for (let n = 1; n <= 365; n++) {
        const at = midnight(2026, 1, n, zone);
        const first = wall(at, zone);
        const last = wall(at - 60_000, zone);
        const day = new Date(Date.UTC(2026, 0, n));
        expect(iso(first), `${zone}, day ${n}`).toBe(day.toISOString().slice(0, 10));
        expect(dayKey(last)).toBeLessThan(dayKey(first));
        expect(first.minute % 60).toBe(0);
      }
    }
  });
});

describe("days", () => {
  it("finds the Monday of a week over a year's end", () => {
    expect(iso(monday(Date.UTC(2027, 0, 1, 12), "UTC"))).toBe("2026-12-28");
    expect(iso(monday(Date.UTC(2026, 11, 28), "UTC"))).toBe("2026-12-28");
    expect(iso(monday(Date.UTC(2026, 11, 27, 23), "Pacific/Kiritimati"))).toBe("2026-12-28");
  });
  it("adds days over months and leap days", () => {
    expect(iso(plusDays({ year: 2028, month: 2, day: 28, minute: 0 }, 1))).toBe("2028-02-29");
    expect(iso(plusDays({ year: 2026, month: 3, day: 1, minute: 0 }, -1))).toBe("2026-02-28");
  });
  it("names days and minutes", () => {
    expect(dayName({ year: 2026, month: 11, day: 29, minute: 0 })).toBe("Sun 29 Nov");
    expect(clockOf(65)).toBe("01:05");
    expect(clockIn("2026-07-01T22:30:00Z", "Europe/Oslo")).toBe("00:30");
  });
});
