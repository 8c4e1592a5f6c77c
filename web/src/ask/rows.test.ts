import { describe, expect, it } from "vitest";
import { readNames, writeNames } from "../collect/outside";
import { mix, stacked } from "../parts/chartData";
import { applyCure } from "./cure";
import { placeAt } from "./complete";
import { linesOfKind, onlyConditions, rowsOfDifference, telling, title, withCondition, withLabel, write } from "./rows";

describe("rows", () => {
  it.each([[null, "s", ""], ["x", "", "x"], [0.4, "s", "400 ms"], [8080, "", "8080"], [3, "{flow}", "3"], [2048, "By", "2.00 KiB"]] as const)("writes %s in %s as %s", (value, unit, text) => expect(write(value, unit)).toBe(text));

  it("writes moments with milliseconds", () => expect(write(1_795_000_000_123, "time")).toMatch(/^\d\d:\d\d:\d\d\.123$/));

  it("keeps columns that tell something", () => {
    const columns = ["a", "b", "c"].map((name) => ({ name, unit: "" }));
    expect(telling(columns, [["1", null, "x"], ["2", null, "x"]], 5).map((column) => column.name)).toEqual(["a", "c"]);
    expect(telling(columns, [["1", "y", "x"], ["2", "y", "x"]], 2).map((column) => column.name)).toEqual(["a"]);
    expect(title({ name: "spans", unit: "{span}" })).toBe("spans");
    expect(title({ name: "rate", unit: "{flow}/s" })).toBe("rate, flow/s");
  });

  it("adds a condition behind those that are there, quoting what needs it", () => {
    expect(withCondition("logs\n  -> where a = 1\n  -> count", "lot", 'A"1')).toBe('logs\n  -> where a = 1\n  -> where lot = "A\\"1"\n  -> count');
    expect(withCondition("logs", "odd name", 3)).toBe("logs\n  -> where `odd name` = 3");
  });

  it("keeps one series near its source, or behind a formula", () => {
    expect(withLabel("container.cpu.time\n  -> rate\n  -> sum by pod", "pod", "ledger-1")).toBe('container.cpu.time\n  -> where pod = "ledger-1"\n  -> rate\n  -> sum by pod');
    expect(withLabel("a: spans -> count by service\nb: logs -> count by service\na / b", "service", "ledger")).toBe('a: spans -> count by service\nb: logs -> count by service\na / b\n  -> where service = "ledger"');
    expect(withLabel("a: spans -> count by service; a * 2", "service", "x")).toBe('a: spans -> count by service; a * 2\n  -> where service = "x"');
  });
  it("puts a condition behind what made its field", () => expect(withCondition('logs -> parse "lot {lot}" -> where a = 1 -> count', "lot", "A-1")).toBe('logs\n  -> parse "lot {lot}"\n  -> where a = 1\n  -> where lot = "A-1"\n  -> count'));

  it("asks for the lines of a kind", () => {
    const text = linesOfKind('logs -> where a = "b"\n -> kinds -> first 5', "sold (lot) A-{} for {} {{x}}");
    expect(text).toBe('logs\n  -> where a = "b"\n  -> where text matches "^\\\\s*sold\\\\s+\\\\(lot\\\\)\\\\s+A-.+?\\\\s+for\\\\s+.+?\\\\s+\\\\{x\\\\}"');
    const pattern = JSON.parse(/matches (".*")$/.exec(text)![1]!) as string;
    expect(new RegExp(pattern).test("sold (lot) A-7 for 12.5 {x}")).toBe(true);
    expect(new RegExp(pattern).test("sold lot A-7 for 12.5 {x}")).toBe(false);
  });

  it("asks for the rows of a difference", () => expect(rowsOfDifference('spans -> where a = 1 -> differ where status = "error" -> first 5', "odd name", "p1")).toBe('spans\n  -> where a = 1\n  -> where `odd name` = "p1"'));

  it("knows what can be counted over time as it is", () => {
    expect(onlyConditions("logs\n  -> where a = 1")).toBe(true);
    expect(onlyConditions("logs -> first 5")).toBe(false);
  });

  it("mends a misspelt word in place", () => expect(applyCure('logs -> where text says "refusd"', 'text says "refused"')).toBe('logs -> where text says "refused"'));

  it("completes fields behind a function, and in the part the cursor stands in", () => {
    expect(placeAt("spans -> p95 dur", 16)).toMatchObject({ expecting: "field", metric: "spans", word: "dur" });
    const text = 'errors: spans -> where status = "error" -> count\nall: logs -> where lev';
    expect(placeAt(text, text.length)).toMatchObject({ expecting: "field", metric: "logs", word: "lev" });
    expect(placeAt('logs -> where text says "ref', 28)).toMatchObject({ expecting: "value", field: "text" });
  });
});

describe("a stack", () => {
  it("adds up from below, the greatest first", () => expect(stacked([[1, 2], [1, null], [2, null]])).toEqual([[1, 2], [3, null], [1, null]]));
  it("mixes a colour with its ground", () => expect(mix("#000000", "#FFFFFF", 0.5)).toBe("#808080"));
});

describe("names outside", () => {
  it("are read line by line, mistakes by their line", () => {
    const text = "203.0.113.0/26 buyers\n\n2001:db8:b::/48 buyers of fruit\nnonsense";
    const { names, mistakes } = readNames(text);
    expect(names).toEqual([{ network: "203.0.113.0/26", name: "buyers" }, { network: "2001:db8:b::/48", name: "buyers of fruit" }]);
    expect(mistakes).toEqual(["Line 4: a network such as 203.0.113.0/24, a blank and a name are expected."]);
    expect(readNames(writeNames(names)).names).toEqual(names);
  });
});
