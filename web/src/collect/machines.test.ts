import { expect, test } from "vitest";
import { firstPlan, machineState, planWords, readEndpoints, writeEndpoints, type Machine } from "./machines";

test("endpoints are read line by line and written back", () => {
  const text = "ledger http://127.0.0.1:9464/metrics\nfront https://front.example/metrics";
  expect(writeEndpoints(readEndpoints(` ${text.replace("\n", "\n\n")} `).endpoints)).toBe(text);
  expect(readEndpoints("ledger").mistake).toMatch(/^Line 1/);
  expect(readEndpoints("ledger http://a\nftp://b").mistake).toMatch(/^Line 2/);
});

test("a machine says how its agent is doing", () => {
  const now = Date.parse("2026-05-12T06:00:00Z");
  const machine = (state: Partial<Machine["state"]>, asked: number | null = 2): Machine => ({ name: "weighbridge", revision: 2, plan: firstPlan, createdAt: "2026-05-12T05:00:00Z", createdBy: "R. Amsel", askedRevision: asked, state: { name: "weighbridge", installedAt: null, askedAt: null, tokenValid: true, ...state } });
  expect(machineState(machine({}), now).text).toBe("not set up yet");
  expect(machineState(machine({ askedAt: "2026-05-12T05:59:40Z" }), now)).toEqual({ level: "clear", text: "uses plan 2" });
  expect(machineState(machine({ askedAt: "2026-05-12T05:59:40Z" }, 1), now).text).toBe("still uses plan 1");
  expect(machineState(machine({ askedAt: "2026-05-12T05:50:00Z" }), now)).toEqual({ level: "critical", text: "no word for 10 min" });
  expect(machineState(machine({ askedAt: "2026-05-12T05:59:40Z", tokenValid: false }), now).level).toBe("critical");
});

test("a plan is told in a few words", () => {
  expect(planWords(firstPlan)).toBe("kernel");
  expect(planWords({ ...firstPlan, files: ["/var/log/a.log", "/var/log/b.log"], endpoints: [{ name: "ledger", url: "http://127.0.0.1:1" }], spans: true, syslog: true })).toBe("kernel, 2 files, 1 endpoint, spans, syslog");
  expect(planWords({ ...firstPlan, hostMetrics: false })).toBe("nothing");
});
