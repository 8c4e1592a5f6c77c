import { describe, expect, it } from "vitest";
import { ago, length, parseLength, parseTime, ticks } from "./time";

describe("lengths of time", () => {
  it.each([[0, "0 s"], [61, "1 min 1 s"], [7200, "2 h"], [9000, "2 h 30 min"], [90061, "1 d 1 h"]])("%s s is written %s", (seconds, text) => expect(length(seconds)).toBe(text));
  it.each([["2h 30m", 9000], ["90min", 5400], ["1d", 86400], ["1.5h", 5400], ["", null], ["soon", null], ["5 parsecs", null], ["5m x", null]])("%s is read as %s", (text, seconds) => expect(parseLength(text)).toBe(seconds));
  it("reads back what it writes", () => { for (const seconds of [5, 65, 3660, 9000, 90000]) expect(parseLength(length(seconds))).toBe(seconds); });
  it("drops seconds from ten minutes on", () => expect([ago(0, 599_000), ago(0, 661_000), ago(0, 37_000_000)]).toEqual(["9 min 59 s ago", "11 min ago", "10 h ago"]));
});

describe("times", () => {
  const now = new Date(2026, 10, 24, 12, 0).getTime();
  it("a time of day ahead is yesterday's", () => {
    expect(parseTime("06:40", now)).toBe(new Date(2026, 10, 24, 6, 40).getTime());
    expect(parseTime("23:00", now)).toBe(new Date(2026, 10, 23, 23, 0).getTime());
  });
  it("takes a date", () => expect(parseTime("2026-11-20 06:40", now)).toBe(new Date(2026, 10, 20, 6, 40).getTime()));
  it("knows what is none", () => expect([parseTime("later", now), parseTime("6.40", now)]).toEqual([null, null]));
  it("ticks are round and within the window", () => {
    const found = ticks(now - 3_600_000 + 1000, now, 7);
    expect(found.length).toBeGreaterThan(3);
    expect(found.length).toBeLessThanOrEqual(7);
    for (const tick of found) expect(tick % 600_000).toBe(0);
  });
});
