import type { Schemas } from "../api/client";

export interface Target { id: string; text: string; kind: Schemas["ProbeKind"]; namespace: string | null; name: string | null }

/** What can be probed: the ways between nodes, then services, then pods. */
export function targets(inventory: Schemas["InventoryView"], services: Schemas["ServiceView"][]): Target[] {
  return [
    ...(inventory.wholeCluster ? [{ id: "nodes", text: "the agents of the other nodes", kind: "nodes" as const, namespace: null, name: null }] : []),
    ...services.map(({ service }) => ({ id: `service ${service.namespace}/${service.name}`, text: `service ${service.namespace}/${service.name}`, kind: "service" as const, namespace: service.namespace, name: service.name })),
    ...inventory.pods.filter((pod) => pod.addresses.length > 0).map((pod) => ({ id: `pod ${pod.namespace}/${pod.name}`, text: `pod ${pod.namespace}/${pod.name}`, kind: "pod" as const, namespace: pod.namespace, name: pod.name })),
  ];
}

/** How an attempt went, in words. */
export function answerWords({ attempt, answer }: Schemas["ProbeOutcome"]): string {
  if (answer.error) return answer.error;
  const found = attempt.by === "name" ? `${answer.addresses.join(", ")}` : "";
  const way = attempt.port === 0 ? "looked up" : `port ${attempt.port} answers`;
  return [found, way, attempt.sameNode ? "same node" : ""].filter(Boolean).join("; ");
}
