import { expect, test } from "vitest";
import { readOrder, standing, suggested } from "./order";

const offers = {
  provider: "p", versions: [{ name: "v1", note: "" }], sizes: [{ name: "small", cores: 2, memoryGib: 8, pricePerHour: 1 }, { name: "middle", cores: 4, memoryGib: 16, pricePerHour: 2 }],
  networks: [{ name: "plain", title: "plain" }], services: [{ name: "storage", title: "Storage" }], mostMachines: 12, currency: "EUR",
};
const view = { order: suggested(offers), orderedBy: "T. Linnet", orderedAt: "2026-11-24T08:00:00Z", connectedAt: null, trouble: null, comparison: [] };

test("an order begins with what most want", () => {
  expect(suggested(offers)).toMatchObject({ families: "both", network: "plain", services: ["storage"], groups: [{ role: "control-plane", size: "middle", count: 1 }, { role: "worker", size: "middle", count: 2 }] });
});

test("an order is read from a file, or it is said why not", () => {
  expect(readOrder('{"name":"east","version":"v1","groups":[]}')).toMatchObject({ name: "east", families: "both", network: null });
  expect(() => readOrder("name: east")).toThrow("not JSON");
  expect(() => readOrder("[]")).toThrow("no order");
});

test("where an order stands is said by its running stage", () => {
  const stages = [{ name: "Machines answer", state: "done", detail: "3 of 3" }, { name: "Network", state: "going", detail: "on 1 of 3 nodes" }];
  expect(standing({ ...view, stages })).toEqual({ words: "Network: on 1 of 3 nodes", level: "warning", done: 1 });
  expect(standing({ ...view, stages: [{ ...stages[1]!, state: "failed" }] }).level).toBe("critical");
  expect(standing({ ...view, stages: [stages[0]!], connectedAt: "2026-11-24T08:01:00Z" }).words).toBe("built and connected");
});
