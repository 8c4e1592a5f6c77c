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

/** What was taken out of a cluster, line by line. */
export function removalWords(removal: Schemas["Removal"]): string[] {
  return [
    removal.removed.length > 0 ? `Removed: ${removal.removed.join(", ")}.` : "Nothing of Skevin was there any more.",
    ...(removal.gone ? [] : ["The cluster is still ending what was in the namespace; look at its namespaces in a while."]),
    ...(removal.leftOnNodes.length > 0 ? [`On ${removal.leftOnNodes.join(", ")} the agent did not answer: /var/lib/skevin-agent may still lie there. Delete it by hand.`] : []),
  ];
}
