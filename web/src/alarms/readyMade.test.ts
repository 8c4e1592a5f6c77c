import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { byArea, shippedRunbook, without } from "./readyMade";

test("rules stand by what they are about", () => {
  const rule = (area: string, name: string) => ({ area, document: { rule: name, when: "a" }, runbook: `${area}/${name}` }) as Schemas["ReadyMadeRule"];
  expect(byArea([rule("pod-health", "a"), rule("traffic", "b"), rule("pod-health", "c")]).map(({ area, rules }) => [area, rules.length])).toEqual([["Pod health", 2], ["Traffic", 1]]);
  expect([...without(["a", "b"], new Set(["a"]))]).toEqual(["b"]);
});

test("a runbook that ships is known by its path", () => {
  expect(shippedRunbook("/alarms?runbook=pod-health/restarts")).toBe("pod-health/restarts");
  for (const other of ["https://runbooks.larkfield.example/settle", "/alarms?runbook=../x", null]) expect(shippedRunbook(other)).toBeNull();
});
