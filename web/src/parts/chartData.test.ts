import { describe, expect, it } from "vitest";
import { columns, figures, seriesNames } from "./chartData";

const series = (labels: Record<string, string>, ...values: (number | null)[]) => ({ labels, points: values.map((value, i) => [i * 1000, value]) });

describe("series for a chart", () => {
  it("are named by what tells them apart", () => {
    expect(seriesNames([series({ "k8s.namespace.name": "auction", "k8s.pod.name": "a" }), series({ "k8s.namespace.name": "auction", "k8s.pod.name": "b" })])).toEqual(["a", "b"]);
    expect(seriesNames([series({ namespace: "auction", workload: "ledger" }), series({ namespace: "payout", workload: "settle" })])).toEqual(["auction · ledger", "payout · settle"]);
    expect(seriesNames([series({})])).toEqual(["all"]);
  });
  it("figures leave empty slots out", () => expect(figures(series({}, 1, null, 4, null))).toEqual({ last: 4, mean: 2.5, lowest: 1, highest: 4 }));
  it("figures of nothing are nothing", () => expect(figures(series({}, null)).last).toBeNull());
  it("columns share one clock and keep gaps; what has no slot at a time has no gap there", () => expect(columns([series({}, 2, null), { labels: {}, points: [[1000, 8], [2000, 10]] }], 2)).toEqual([[0, 1, 2], [1, null, undefined], [undefined, 4, 5]]));
});
