import { describe, expect, it } from "vitest";
import { edgesOf, layOut, ranks, spoken, type Edge } from "./traffic";

const edge = (source: string, destination: string, rate = 1, more: Partial<Edge> = {}): Edge => {
  const [sourceNamespace, from] = source.split("/") as [string, string];
  const [destinationNamespace, to] = destination.split("/") as [string, string];
  return { source: from, sourceNamespace, destination: to, destinationNamespace, rate, errors: 0, dropped: 0, reason: "", p95: null, bytes: null, ...more };
};

const edges = [edge("/buyers", "edge/gatehouse", 40), edge("edge/gatehouse", "auction/bid-gateway", 36), edge("auction/bid-gateway", "auction/ledger", 20), edge("auction/ledger", "/bank", 4), edge("auction/ledger", "auction/bid-gateway", 1)];

describe("traffic in lanes", () => {
  it("puts callers left of what they call, cycles cut", () => {
    const rank = ranks(edges);
    expect([...rank]).toEqual([["/buyers", 0], ["edge/gatehouse", 1], ["auction/bid-gateway", 2], ["auction/ledger", 3], ["/bank", 4]]);
    expect(ranks([edge("a/x", "a/y"), edge("a/y", "a/x")]).get("a/y")).toBe(1);
  });

  it("has a lane a namespace, outside on top, and nothing lies on anything or out of the drawing", () => {
    const many = [...edges, ...Array.from({ length: 9 }, (_, i) => edge(`coldstore/sensor-${i}`, "platform/queue"))];
    const { lanes, nodes, ribbons, height } = layOut(many, 740, 300);
    expect(lanes[0]!.namespace).toBe("outside");
    expect(new Set(lanes.map((lane) => lane.namespace)).size).toBe(5);
    for (const a of nodes) {
      expect(a.x - a.width / 2).toBeGreaterThan(60);
      expect(a.x + a.width / 2).toBeLessThanOrEqual(740);
      expect(a.y + 12).toBeLessThanOrEqual(height);
      for (const b of nodes) if (a !== b) expect(Math.abs(a.x - b.x) >= (a.width + b.width) / 2 || Math.abs(a.y - b.y) >= 24, `${a.id} on ${b.id}`).toBe(true);
    }
    expect(ribbons).toHaveLength(many.length);
    expect(ribbons[0]!.edge.rate).toBe(40);
  });

  it("reads rows by the names of their columns", () =>
    expect(edgesOf([{ name: "rate" }, { name: "destination" }, { name: "source" }, { name: "dropped" }], [[2, "queue", "door-watch", 0.5]])[0]).toMatchObject({ source: "door-watch", destination: "queue", rate: 2, dropped: 0.5, p95: null }));

  it.each([[42.4, "42 a second"], [2.5, "2.5 a second"], [0.7, "42 a minute"], [0.05, "3.0 a minute"], [0.001, "3.6 an hour"]])("speaks of %s a second as %s", (rate, words) => expect(spoken(rate)).toBe(words));
});
