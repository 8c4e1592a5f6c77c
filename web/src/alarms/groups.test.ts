import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { lines } from "./groups";

const alarm = (id: string) => ({ id, rule: "r" }) as Schemas["AlarmView"];
const group = (title: string, because: string | null, ...alarms: string[]): Schemas["AlarmGroup"] => ({ title, because, severity: "major", since: "2026-11-26T06:00:00Z", alarms });
const words = (list: ReturnType<typeof lines>) => list.map((line) => (line.alarm ? `${line.group ? "  " : ""}${line.alarm.id}` : `${line.group.title} (${line.group.alarms.length})`));

test("groups are a line each, open ones show their alarms, what is not raised comes last", () => {
  const alarms = ["a", "b", "c", "holding"].map(alarm);
  const groups = [group("node x is not ready", "gone", "b", "a"), group("alone", null, "c")];
  expect(words(lines(alarms, groups, new Set()))).toEqual(["node x is not ready (2)", "c", "holding"]);
  expect(words(lines(alarms, groups, new Set(["node x is not ready"])))).toEqual(["node x is not ready (2)", "  b", "  a", "c", "holding"]);
});

test("alarms out of scope are not counted, and a group without any is left out", () => {
  expect(words(lines([alarm("a")], [group("g", null, "a", "hidden"), group("h", "why", "hidden")], new Set()))).toEqual(["a"]);
  expect(words(lines([alarm("a")], [group("g", "why", "a", "hidden")], new Set()))).toEqual(["g (1)"]);
});
