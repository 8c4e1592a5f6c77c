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
    return values.length > 0 ? values.join(" · ") : "all";
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

/** Columns as the chart wants them: seconds, then one row of values a series. */
export function columns(series: AnswerSeries[], divisor = 1): [number[], ...(number | null)[][]] {
  const times = [...new Set(series.flatMap((one) => one.points.map(([time]) => time as number)))].sort((a, b) => a - b);
  const at = new Map(times.map((time, i) => [time, i]));
  return [times.map((time) => time / 1000), ...series.map((one) => {
    const values: (number | null)[] = new Array(times.length).fill(null);
    for (const [time, value] of one.points) values[at.get(time as number)!] = value == null ? null : value / divisor;
    return values;
  })];
}
