import type { AnswerSeries } from "../parts/chartData";

const day = 86_400_000;

/** Earlier times a sheet can be compared with. */
export const againsts = [{ id: "", text: "nothing", back: 0 }, { id: "1d", text: "the day before", back: day }, { id: "7d", text: "the week before", back: 7 * day }] as const;

export const backOf = (id: string): number => againsts.find((one) => one.id === id)?.back ?? 0;

/** Series of an earlier window, laid over the present one. */
export const earlier = (series: AnswerSeries[], back: number): AnswerSeries[] => series.map((one) => ({ ...one, points: one.points.map(([at, value]) => [at! + back, value ?? null]) }));
