import { expect, it } from "vitest";
import { figure } from "./Header";

const view = { clusters: 2, readyClusters: 1, signalsCollected: 1, sources: 24, late: 3, partial: 0, refused: 1, sheets: 1, raised: 2, acknowledged: 1, strands: [] };

it("stations carry a short figure", () => {
  expect(["/clusters", "/collect", "/arrivals", "/dashboards", "/alarms"].map((path) => figure(path, view))).toEqual(["1 of 2 ready", "1 of 4 signals", "3 late, 1 refused", "1 sheet", "2 raised, 1 seen"]);
  expect(figure("/arrivals", { ...view, late: 0, partial: 2, refused: 0 })).toBe("2 partial");
  expect(figure("/arrivals", { ...view, late: 0, refused: 0 })).toBe("all 24 on time");
  expect(figure("/alarms", { ...view, raised: 0 })).toBe("quiet");
});
