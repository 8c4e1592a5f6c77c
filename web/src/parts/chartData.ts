import type { Schemas } from "../api/client";

export type AnswerSeries = Schemas["SeriesView"];

/** Names for series: only the labels that tell them apart, the shortest way. */
export function seriesNames(series: AnswerSeries[]): string[] {
  const short = (name: string) => ({ "k8s.namespace.name": "namespace", "k8s.pod.name": "pod", "k8s.node.name": "node", "k8s.container.name": "container", "service.name": "service" })[name] ?? name;
  const names = [...new Set(series.flatMap((one) => Object.keys(one.labels)))];
  const telling = names.filter((name) => new Set(series.map((one) => one.labels[name])).size > 1);
  // A pod's name tells more than its workload and node.
  const key = telling.find((name) => short(name) === "pod");
  const kept = key && new Set(series.map((one) => one.labels[key])).size === series.length ? [key] : telling;
  return series.map((one) => {
    const values = (kept.length > 0 ? kept : names.slice(0, 1)).map((name) => one.labels[name]).filter(Boolean);
    return values.length > 0 ? values.join(" · ") : telling.length > 0 ? "none" : "all";
  });
}

export interface Figures { last: number | null; mean: number | null; lowest: number | null; highest: number | null }

/** What a series did over the window. */
export function figures(series: AnswerSeries): Figures {
  let [count, sum, lowest, highest, last] = [0, 0, Infinity, -Infinity, null as number | null];
  for (const [, value] of series.points) {
    if (value === null || value === undefined) continue;
    count++;
    sum += value;
    lowest = Math.min(lowest, value);
    highest = Math.max(highest, value);
    last = value;
  }
  return count === 0 ? { last: null, mean: null, lowest: null, highest: null } : { last, mean: sum / count, lowest, highest };
}

/** Seconds, then one row of values a series: null where it has a gap, undefined where it has no slot, because another's slots are narrower; a line goes on over these. */
export type Columns = [number[], ...(number | null | undefined)[][]];

/** Columns as the chart wants them. */
export function columns(series: AnswerSeries[], divisor = 1): Columns {
  const times = [...new Set(series.flatMap((one) => one.points.map(([time]) => time as number)))].sort((a, b) => a - b);
  const at = new Map(times.map((time, i) => [time, i]));
  return [times.map((time) => time / 1000), ...series.map((one) => {
    const values: (number | null | undefined)[] = new Array(times.length).fill(undefined);
    for (const [time, value] of one.points) values[at.get(time as number)!] = value == null ? null : value / divisor;
    return values;
  })];
}

/** Sums of the first series, the first two, and so on; the greatest first, so that it is drawn behind the others. */
export function stacked(data: Columns): Columns {
  const [times, ...rows] = data;
  const sums: (number | null)[][] = [];
  for (const row of rows) {
    const before = sums[0];
    sums.unshift(times.map((_, i) => (row[i] == null && before?.[i] == null ? null : (row[i] ?? 0) + (before?.[i] ?? 0))));
  }
  return [times, ...sums];
}

/** A colour over a ground, as one opaque colour: areas that lie on each other must not shine through. */
export function mix(colour: string, ground: string, share: number): string {
  const part = (hex: string, at: number) => parseInt(hex.slice(1 + at * 2, 3 + at * 2), 16);
  return "#" + [0, 1, 2].map((at) => Math.round(part(colour, at) * share + part(ground, at) * (1 - share)).toString(16).padStart(2, "0")).join("");
}
