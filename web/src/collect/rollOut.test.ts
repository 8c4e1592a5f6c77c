import { expect, test } from "vitest";
import { removalWords, rollOutWords } from "./rollOut";

test("a roll-out says how far it is and what still runs", () => {
  expect(rollOutWords({ state: "done", updated: 6, total: 6, earlier: {} }, 4)).toBe("6 of 6 agents ready");
  expect(rollOutWords({ state: "held", updated: 1, total: 6, earlier: { 3: 5 } }, 4)).toBe("held: 1 of 6 agents ready on revision 4, 5 of revision 3");
  expect(rollOutWords({ state: "halted", updated: 0, total: 6, earlier: { 3: 5 } }, 4)).toContain("standing still");
});

test("what was taken out says what is left", () => {
  expect(removalWords({ removed: ["Namespace skevin-agents"], leftOnNodes: [], gone: true })).toEqual(["Removed: Namespace skevin-agents."]);
  expect(removalWords({ removed: [], leftOnNodes: ["north-1", "north-2"], gone: false })).toEqual([expect.stringContaining("Nothing"), expect.stringContaining("still ending"), expect.stringMatching(/north-1, north-2.*by hand/)]);
});
