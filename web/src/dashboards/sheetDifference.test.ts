import { describe, expect, it } from "vitest";
import { emptyStrip } from "./sheets";
import { sheetDifference } from "./sheetDifference";

const sheet = (titles: string[], more: object = {}) => ({ title: "Cold rooms", about: "", choices: null, strips: titles.map((title) => ({ ...emptyStrip, title, text: `logs -> where text says "${title}" -> count every 1m` })), ...more });

describe("the difference of two versions", () => {
  it("is nothing where nothing changed", () => expect(sheetDifference(sheet(["a", "b"]), sheet(["a", "b"]))).toEqual([]));

  it("names what was added, taken out and changed, before and after", () => {
    const after = sheet(["a", "c"]);
    after.strips[0]!.height = 200;
    expect(sheetDifference(sheet(["a", "b"], { title: "Rooms" }), after).map(({ strip, text, before, after }) => [strip, text, before, after])).toEqual([
      ["", "title", "Rooms", "Cold rooms"], ["a", "height", "96", "200"], ["c", "added", undefined, 'logs -> where text says "c" -> count every 1m'], ["b", "taken out", 'logs -> where text says "b" -> count every 1m', undefined]]);
  });

  it("knows a strip by its enquiry where its title changed", () => {
    const after = sheet(["a", "b"]);
    after.strips[1]!.title = "Doors";
    expect(sheetDifference(sheet(["a", "b"]), after)).toEqual([{ strip: "Doors", text: "title", before: "b", after: "Doors" }]);
  });

  it("writes bounds, colours and choices as a person would", () => {
    const after = sheet(["a"], { choices: [{ field: "level", from: "logs" }, { field: "node", from: null }] });
    Object.assign(after.strips[0]!, { bounds: [{ at: "400ms", severity: "major", below: false }, { at: "5%", severity: "warning", below: true }], colours: { error: "critical" } });
    expect(sheetDifference(sheet(["a"]), after).map((change) => change.after)).toEqual(["level of logs, node", "major above 400ms, warning below 5%", "error: critical"]);
  });

  it("names only what moved, not what had to make room", () => {
    expect(sheetDifference(sheet(["a", "b", "c", "d"]), sheet(["d", "a", "b", "c"]))).toEqual([{ strip: "d", text: "moved", before: "place 4", after: "place 1" }]);
    expect(sheetDifference(sheet(["a", "b", "c"]), sheet(["c", "b", "a"])).length).toBe(2);
  });
});
