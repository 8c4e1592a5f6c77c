import { describe, expect, it } from "vitest";
import { criticalPath, failures, layOut, whereTimeWent, type TraceSpan } from "./trace";

const span = (id: string, parent: string | null, workload: string, start: number, ms: number, more: Partial<TraceSpan> = {}): TraceSpan => ({
  span: id, parent, name: id, kind: "server", status: "unset", message: null, start, duration: ms / 1000, workload, namespace: "auction", pod: null, weight: 1, foreign: false, attributes: {}, exception: null, ...more,
});

// A gate that calls the ledger, which works, waits for the bank, and works again.
const call = [
  span("gate", null, "gatehouse", 1000, 100),
  span("call", "gate", "gatehouse", 1010, 80, { kind: "client" }),
  span("write", "call", "ledger", 1015, 70, { status: "error" }),
  span("bank", "write", "ledger", 1025, 40, { kind: "client", status: "error", attributes: { "server.address": "bank" }, exception: { type: "TimeoutException", message: "x", stack: "at y" } }),
];

describe("a trace in lanes", () => {
  it("has one lane a workload, and one for what lies outside", () => {
    const { lanes, spans, length, begin } = layOut(call);
    expect(lanes.map((lane) => lane.workload)).toEqual(["gatehouse", "ledger", "bank (outside)"]);
    expect([begin, length]).toEqual([1000, 100]);
    // The call whose answer is in the trace has no bar of its own.
    expect(spans.map((placed) => placed.span.span)).toEqual(["gate", "write", "bank"]);
  });

  it("gives spans that would lie on each other rows of their own", () => {
    const { lanes, spans } = layOut([span("a", null, "w", 0, 50), span("b", "a", "w", 10, 50), span("c", "a", "w", 55, 5)]);
    expect(lanes[0]!.rows).toBe(2);
    expect(spans.map((placed) => placed.row)).toEqual([0, 1, 0]);
  });

  it("follows the path that set the time, without gap and without overlap", () => {
    const path = criticalPath(call);
    expect(path.map((part) => part.span.span)).toEqual(["gate", "call", "write", "bank", "write", "call", "gate"]);
    expect(path[0]!.from).toBe(0);
    expect(path[path.length - 1]!.to).toBe(100);
    for (let i = 1; i < path.length; i++) expect(path[i]!.from).toBeCloseTo(path[i - 1]!.to);
  });

  it("passes over a child that ended while another still ran", () => {
    const path = criticalPath([span("a", null, "w", 0, 100), span("slow", "a", "x", 10, 80), span("fast", "a", "y", 10, 20)]);
    expect(path.map((part) => part.span.span)).toEqual(["a", "slow", "a"]);
  });

  it("says where the time went, all of it", () => {
    const went = whereTimeWent(call);
    expect(went[0]).toMatchObject({ words: "bank did not answer", seconds: 0.04 });
    expect(went.map((part) => part.words).sort()).toEqual(["bank did not answer", "on the way between workloads", "work in gatehouse", "work in ledger"]);
    expect(went.reduce((total, part) => total + part.share, 0)).toBeCloseTo(1);
  });

  it("names the failure where it began first", () => expect(failures(call).map((one) => one.span)).toEqual(["bank", "write"]));
});
