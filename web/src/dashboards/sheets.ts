import type { Schemas } from "../api/client";

export type Strip = Schemas["Strip"];
export type Sheet = Schemas["Sheet"];

export const curves = ["lines", "area", "stack", "steps", "heat", "bars", "apart"] as const;
export const blocks = ["figure", "ranked", "gauge", "table", "log", "lanes"] as const;
export const drawWords: Record<string, string> = { lines: "lines", area: "filled line", stack: "stacked", steps: "steps", heat: "heat bands", bars: "stacked bars", apart: "side by side", lanes: "traffic lanes", figure: "single figure", ranked: "ranked bars", gauge: "gauge of a share", table: "table", log: "log lines" };
export const isBlock = (strip: Strip) => (blocks as readonly string[]).includes(strip.draw);

export const emptyStrip: Strip = { title: "", subtitle: "", text: "", draw: "lines", height: 96, by: "", about: "" };

/** The strips with one of them at another place; what lies outside stays at the edge. */
export function moved(strips: Strip[], from: number, to: number): Strip[] {
  const next = [...strips];
  const [strip] = next.splice(from, 1);
  if (strip) next.splice(Math.max(0, Math.min(strips.length - 1, to)), 0, strip);
  return next;
}

export interface History<T> { past: T[]; now: T; future: T[] }
export const begun = <T,>(now: T): History<T> => ({ past: [], now, future: [] });
/** The next state; what was undone before is let go. Fifty states are remembered. */
export const done = <T,>(history: History<T>, next: T): History<T> => ({ past: [...history.past.slice(-49), history.now], now: next, future: [] });
export const undone = <T,>(history: History<T>): History<T> => (history.past.length === 0 ? history : { past: history.past.slice(0, -1), now: history.past.at(-1)!, future: [history.now, ...history.future] });
export const redone = <T,>(history: History<T>): History<T> => (history.future.length === 0 ? history : { past: [...history.past, history.now], now: history.future[0]!, future: history.future.slice(1) });

/** Strips as rows: blocks that follow each other stand side by side, up to four; lanes need the whole width. */
export function rowsOf(strips: Strip[]): { strip: Strip; at: number }[][] {
  const rows: { strip: Strip; at: number }[][] = [];
  strips.forEach((strip, at) => {
    const last = rows.at(-1);
    if (isBlock(strip) && strip.draw !== "lanes" && last && last.length < 4 && isBlock(last[0]!.strip) && last[0]!.strip.draw !== "lanes") last.push({ strip, at });
    else rows.push([{ strip, at }]);
  });
  return rows;
}
