import { expect, test } from "vitest";
import { drillWords, hopTime, places, type Drill, type Hop } from "./drill";

const hop = (name: Hop["hop"], at: string | null, more: Partial<Hop> = {}): Hop => ({ hop: name, state: at ? "done" : "ahead", at, seconds: null, leastSeconds: null, said: null, ...more });
const drill = (hops: Hop[], endedAt: string | null): Drill => ({ ruleId: "1", fault: "slow-bank", title: "The bank outside answers in 4 to 5 s", by: "R. Amsel", begunAt: "2026-05-12T06:00:00Z", endedAt, hops });
const now = Date.parse("2026-05-12T06:10:00Z");

test("a drill says how long it took, or where it broke", () => {
  expect(drillWords(null, now)).toBe("never");
  expect(drillWords(drill([], null), now)).toBe("going on");
  expect(drillWords(drill([hop("fault", "2026-05-12T06:00:00Z"), hop("raised", "2026-05-12T06:01:00Z"), hop("told", "2026-05-12T06:01:02Z")], "2026-05-12T06:05:00Z"), now)).toBe("62 s, 5 min ago");
  expect(drillWords(drill([hop("fault", "2026-05-12T06:00:00Z"), hop("beyond", null, { state: "broken" })], "2026-05-12T06:05:00Z"), now)).toBe("broke: beyond the bound, 5 min ago");
});

test("a hop is told against the least it could take", () => {
  expect(hopTime(hop("raised", "x", { seconds: 61.4, leastSeconds: 60 }))).toBe("61 s after the fault, at least 60 s");
  expect(hopTime(hop("told", "x", { seconds: 0.42, leastSeconds: 0 }))).toBe("0.4 s after the alarm");
  expect(hopTime(hop("cleared", null, { leastSeconds: 45 }))).toBe("at least 45 s");
});

test("hops lie along the drill", () => {
  expect(places(drill([hop("fault", "2026-05-12T06:00:00Z"), hop("raised", "2026-05-12T06:02:30Z"), hop("told", null)], null), Date.parse("2026-05-12T06:05:00Z")).map(({ at }) => at)).toEqual([0, 0.5]);
});
