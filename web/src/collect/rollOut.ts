import type { Schemas } from "../api/client";

/** A roll-out as a whole, in words. */
export function rollOutWords(rollOut: Schemas["RollOutSummary"] | null, revision: number): string {
  if (!rollOut) return "";
  const others = Object.entries(rollOut.earlier).map(([earlier, count]) => `${count} of revision ${earlier}`).join(", ");
  const ready = `${rollOut.updated} of ${rollOut.total} agents ready`;
  if (rollOut.state === "done") return ready;
  const all = `${ready} on revision ${revision}${others ? `, ${others}` : ""}`;
  return rollOut.state === "held" ? `held: ${all}` : rollOut.state === "halted" ? `standing still at an agent that does not start: ${all}` : all;
}
