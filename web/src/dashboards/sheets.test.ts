import { describe, expect, it } from "vitest";
import { begun, done, emptyStrip, moved, redone, rowsOf, undone } from "./sheets";

const strips = ["a", "b", "c", "d"].map((title) => ({ ...emptyStrip, title }));
const titles = (list: { title: string }[]) => list.map((one) => one.title).join("");

describe("strips", () => {
  it("move and stay within the sheet", () => {
    expect(titles(moved(strips, 0, 2))).toBe("bcad");
    expect(titles(moved(strips, 3, 0))).toBe("dabc");
    expect(titles(moved(strips, 1, -1))).toBe("bacd");
    expect(titles(moved(strips, 2, 9))).toBe("abdc");
    expect(titles(moved(strips, 7, 0))).toBe("abcd");
    expect(titles(strips)).toBe("abcd");
  });
  it("stand side by side where they are blocks", () => {
    const kinds = ["lines", "figure", "ranked", "table", "figure", "figure", "lines", "figure"].map((draw) => ({ ...emptyStrip, draw }));
    expect(rowsOf(kinds).map((row) => row.map((one) => one.at))).toEqual([[0], [1, 2, 3, 4], [5], [6], [7]]);
  });
});

describe("undo", () => {
  it("goes back and forth, and a new change lets go of what was undone", () => {
    let history = done(done(begun("a"), "b"), "c");
    history = undone(undone(history));
    expect(history.now).toBe("a");
    expect(undone(history)).toBe(history);
    expect(redone(history).now).toBe("b");
    history = done(redone(history), "x");
    expect(redone(history)).toBe(history);
    expect(undone(history).now).toBe("b");
  });
});
