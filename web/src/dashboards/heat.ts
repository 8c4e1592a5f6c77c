import type { AnswerSeries } from "../parts/chartData";

/** Most bands that stand under each other; more would be thinner than a line of text. */
export const mostBands = 30;

export interface Heat { least: number; most: number; times: number[]; bands: (number | null)[][] }

/** Series as bands over the same slots: of many those with the greatest values, in the order they came. */
export function heatOf(series: AnswerSeries[]): { heat: Heat; kept: number[] } {
  const greatest = series.map((one) => Math.max(-Infinity, ...one.points.map(([, value]) => value ?? -Infinity)));
  const kept = series.map((_, i) => i).sort((a, b) => greatest[b]! - greatest[a]!).slice(0, mostBands).sort((a, b) => a - b);
  const times = [...new Set(series.flatMap((one) => one.points.map(([at]) => at!)))].sort((a, b) => a - b);
  const place = new Map(times.map((at, i) => [at, i]));
  let [least, most] = [Infinity, -Infinity];
  const bands = kept.map((i) => {
    const band: (number | null)[] = new Array(times.length).fill(null);
    for (const [at, value] of series[i]!.points) {
      if (value === null || value === undefined) continue;
      band[place.get(at!)!] = value;
      least = Math.min(least, value);
      most = Math.max(most, value);
    }
    return band;
  });
  return { heat: { least: Number.isFinite(least) ? Math.min(0, least) : 0, most: Number.isFinite(most) ? most : 0, times, bands }, kept };
}

/** How dark a value is, 0 to 1; what has a value at all is never as light as nothing. */
export const darkness = (value: number, heat: Heat): number => (heat.most > heat.least ? 0.08 + 0.92 * ((value - heat.least) / (heat.most - heat.least)) : 0.08);
