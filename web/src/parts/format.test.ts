import { describe, expect, it } from "vitest";
import { digits, scaleFor, whole, withUnit } from "./format";

describe("numbers with units", () => {
  // UCUM and IEC 80000-13: KiB is 1024 bytes.
  it.each([
    [0, "By", "0 B"], [1536, "By", "1.50 KiB"], [268435456, "By", "256 MiB"], [2048, "By/s", "2.00 KiB/s"],
    [0.4, "s", "400 ms"], [90, "s", "1.50 min"], [0.58, "{core}", "0.580 cores"], [0.0123, "{core}", "12.3 mcore"],
    [3, "{pod}", "3.00 pod"], [12.3, "1", "12.3"], [null, "By", "–"], [Number.NaN, "s", "–"],
  ])("%s %s is written %s", (value, unit, text) => expect(withUnit(value as number | null, unit)).toBe(text));

  it("groups thousands with a thin space", () => expect(whole(1234567)).toBe("1\u2009234\u2009567"));
  it("keeps the digits that matter", () => expect([123.4, 12.34, 1.234, 0.1234, 0.01234, 0].map(digits)).toEqual(["123", "12.3", "1.23", "0.123", "0.0123", "0"]));
  it("uses one scale for a rate and its unit", () => expect(scaleFor("By/s", 5_000_000)).toEqual({ divisor: 2 ** 20, unit: "MiB/s" }));
});
