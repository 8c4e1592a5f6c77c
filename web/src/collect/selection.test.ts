import { expect, test } from "vitest";
import { fromWhere, lists, readSelection } from "./selection";

test("a selection is read from lines, and empty lists are none", () => {
  const { selection, mistakes } = readSelection({ workloads: "auction/ledger\n\n auction/clock ", labels: "", nodes: "north-1" });
  expect(mistakes).toEqual({});
  expect(selection).toEqual({ workloads: ["auction/ledger", "auction/clock"], labels: null, nodes: ["north-1"] });
  expect(lists(selection!.workloads)).toBe("auction/ledger\nauction/clock");
  expect(readSelection({ workloads: "", labels: " ", nodes: "" }).selection).toBeNull();
});

test("what is none is named", () => {
  expect(readSelection({ workloads: "ledger", labels: "tier", nodes: "" }).mistakes).toEqual({ workloads: "'ledger' is no workload such as auction/ledger.", labels: "'tier' is no label such as tier=front." });
});

test("from where in a few words", () => {
  expect(fromWhere(null)).toBe("all namespaces");
  expect(fromWhere(["auction"], { workloads: ["auction/ledger"], labels: null, nodes: ["a", "b"] })).toBe("auction, only auction/ledger, 2 nodes");
});
