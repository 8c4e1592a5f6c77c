import type { Schemas } from "../api/client";
import type { AnswerSeries } from "../parts/chartData";

/** The bounds that follow what is usual, as series to be drawn beside what is judged. */
export function usualSeries(usual: Schemas["UsualView"] | null | undefined): AnswerSeries[] {
  if (!usual) return [];
  const side = (name: "above" | "below", text: string): AnswerSeries[] => (usual.hours.some((hour) => hour[name] != null) ? [{ labels: { usual: text }, points: usual.hours.map((hour) => [Date.parse(hour.to), hour[name] ?? null]) }] : []);
  return [...side("above", "raised above"), ...side("below", "raised below")];
}
