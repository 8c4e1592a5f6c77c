import type { Schemas } from "../api/client";

const titles: Record<string, string> = { "resource-use": "Resource use", "pod-health": "Pod health", traffic: "Traffic", collection: "Collection", repetition: "Unusual repetition, without a rule of one's own" };

/** Ready-made rules by what they are about, in their order. */
export function byArea(rules: Schemas["ReadyMadeRule"][]): { area: string; rules: Schemas["ReadyMadeRule"][] }[] {
  const areas = [...new Set(rules.map((rule) => rule.area))];
  return areas.map((area) => ({ area: titles[area] ?? area, rules: rules.filter((rule) => rule.area === area) }));
}

export const without = <T>(all: Iterable<T>, some: ReadonlySet<T>): Set<T> => new Set([...all].filter((one) => !some.has(one)));

/** The name of a runbook that ships, from where a rule says it stands; null for one that stands elsewhere. */
export const shippedRunbook = (runbook: string | null | undefined): string | null => /^\/alarms\?runbook=([a-z-]+\/[a-z-]+)$/.exec(runbook ?? "")?.[1] ?? null;
