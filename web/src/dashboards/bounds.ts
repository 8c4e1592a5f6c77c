import type { Schemas } from "../api/client";
import type { Colours } from "../theme";

export type StripBound = Schemas["StripBound"];
export type Severity = "warning" | "minor" | "major" | "critical";
export const severities: Severity[] = ["warning", "minor", "major", "critical"];

export interface DrawnBound { value: number; text: string; level: Severity; below: boolean }

/** Bounds of a strip with the values the server gave them in the answer's unit; those that do not fit are left out, a note tells why. */
export function drawnBounds(bounds: StripBound[] | null | undefined, values: (number | null)[] | null | undefined): DrawnBound[] {
  return (bounds ?? []).flatMap((bound, i) => (values?.[i] === null || values?.[i] === undefined ? [] : [{ value: values[i]!, text: bound.at, level: bound.severity as Severity, below: bound.below ?? false }]));
}

/** The gravest severity whose bound a value is beyond; null where it is within all. */
export function beyond(value: number | null, bounds: DrawnBound[]): Severity | null {
  if (value === null) return null;
  const broken = bounds.filter((bound) => (bound.below ? value < bound.value : value > bound.value)).map((bound) => severities.indexOf(bound.level));
  return broken.length === 0 ? null : severities[Math.max(...broken)]!;
}

/** Words for colours by meaning. */
export const colourWords = [...severities, "clear", "metrics", "logs", "traces", "flows", "quiet"] as const;
export const colourOf = (theme: Colours, word: string): string | undefined => (word === "quiet" ? theme.ink2 : (colourWords as readonly string[]).includes(word) ? theme[word as Severity] : undefined);
