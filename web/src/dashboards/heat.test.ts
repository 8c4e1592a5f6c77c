import { expect, test } from "vitest";
import { earlier } from "./against";
import { darkness, heatOf, mostBands } from "./heat";

const series = (name: string, ...values: (number | null)[]) => ({ labels: { pod: name }, points: values.map((value, i) => [i * 1000, value] as [number, number | null]) });

test("series become bands over the same slots, gaps stay gaps", () => {
  const { heat, kept } = heatOf([series("a", 1, null, 3), series("b", 5)]);
  expect(kept).toEqual([0, 1]);
  expect(heat.bands).toEqual([[1, null, 3], [5, null, null]]);
  expect([heat.least, heat.most]).toEqual([0, 5]);
  expect(darkness(5, heat)).toBe(1);
  expect(darkness(0, heat)).toBeGreaterThan(0);
});

test("of many series those with the greatest values stay, in their order", () => {
  const { kept } = heatOf(Array.from({ length: mostBands + 5 }, (_, i) => series(`p${i}`, i)));
  expect(kept[0]).toBe(5);
  expect(kept.length).toBe(mostBands);
  expect(heatOf([]).heat).toEqual({ least: 0, most: 0, times: [], bands: [] });
});

test("what was earlier is laid over now", () => {
  expect(earlier([series("a", 1, 2)], 60_000)[0]!.points).toEqual([[60_000, 1], [61_000, 2]]);
});
