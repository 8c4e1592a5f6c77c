import type { Schemas } from "../api/client";
import { ago, length } from "../parts/time";

export type Drill = Schemas["DrillView"];
export type Hop = Schemas["HopView"];

const words: Record<Schemas["DrillHop"], string> = {
  fault: "Fault put in", beyond: "Beyond the bound", raised: "Alarm raised", told: "Message accepted", faultOver: "Fault taken away", cleared: "Alarm cleared", toldOver: "Message of the end accepted",
};
export const hopWords = (hop: Hop) => words[hop.hop];

const seconds = (value: number) => (value < 10 ? `${value.toFixed(1)} s` : value < 100 ? `${Math.round(value)} s` : length(value));

/** How long a hop took, after what, and what the rule's own times ask for at least. */
export function hopTime(hop: Hop): string {
  if (hop.seconds == null) return hop.leastSeconds ? `at least ${seconds(hop.leastSeconds)}` : "";
  const after: Record<Schemas["DrillHop"], string> = { fault: "", beyond: "after the fault", raised: "after the fault", told: "after the alarm", faultOver: "after it was put in", cleared: "after the fault's end", toldOver: "after it" };
  return hop.hop === "fault" ? "" : `${seconds(hop.seconds)} ${after[hop.hop]}${hop.leastSeconds ? `, at least ${seconds(hop.leastSeconds)}` : ""}`;
}

/** A drill in a few words, for a table: how long from fault to message, or where the chain broke. */
export function drillWords(drill: Drill | null | undefined, now: number): string {
  if (!drill) return "never";
  if (!drill.endedAt) return "going on";
  const at = (hop: Schemas["DrillHop"]) => drill.hops.find((one) => one.hop === hop);
  const broken = drill.hops.find((hop) => hop.state === "broken");
  const when = ago(Date.parse(drill.endedAt), now);
  if (broken) return `broke: ${words[broken.hop].toLowerCase()}, ${when}`;
  const [begun, told] = [at("fault")?.at, at("told")?.at ?? at("raised")?.at];
  return begun && told ? `${seconds((Date.parse(told) - Date.parse(begun)) / 1000)}, ${when}` : when;
}

/** Share of the whole drill at which each hop that happened lies, 0 to 1; `now` for one that goes on. */
export function places(drill: Drill, now: number): { hop: Hop; at: number }[] {
  const begun = Date.parse(drill.begunAt);
  const span = Math.max(1, (drill.endedAt ? Date.parse(drill.endedAt) : now) - begun);
  return drill.hops.filter((hop) => hop.at).map((hop) => ({ hop, at: Math.min(1, Math.max(0, (Date.parse(hop.at!) - begun) / span)) }));
}
