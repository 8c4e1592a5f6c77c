import type { Schemas } from "../api/client";

export type Order = Schemas["ClusterOrder"];

/** The order a person begins with: three machines of the middle size, both families, a network and all base services. */
export function suggested(offers: Schemas["OrderOffers"]): Order {
  const size = offers.sizes[Math.min(1, offers.sizes.length - 1)]?.name ?? "";
  return {
    name: "", version: offers.versions[0]?.name ?? "", groups: [{ role: "control-plane", size, count: 1 }, { role: "worker", size, count: 2 }],
    families: "both", network: offers.networks[0]?.name ?? null, services: offers.services.map((service) => service.name),
  };
}

/** Reads an order from a file. */
export function readOrder(text: string): Order {
  let read: unknown;
  try { read = JSON.parse(text); } catch (wrong) { throw new Error(`The file is not JSON: ${(wrong as Error).message}`); }
  const order = read as Partial<Order> | null;
  if (!order || typeof order !== "object" || typeof order.name !== "string" || !Array.isArray(order.groups))
    throw new Error("The file is no order: it needs at least name, version and groups.");
  return { name: order.name, version: String(order.version ?? ""), groups: order.groups, families: order.families ?? "both", network: order.network ?? null, services: order.services ?? [] };
}

/** Where an order stands, in words. */
export function standing(order: Schemas["OrderView"]): { words: string; level: "clear" | "warning" | "critical"; done: number } {
  const done = order.stages.filter((stage) => stage.state === "done").length;
  const at = order.stages.find((stage) => stage.state === "going" || stage.state === "failed");
  if (order.trouble) return { words: order.trouble, level: "critical", done };
  if (at) return { words: `${at.name}: ${at.detail}`, level: at.state === "failed" ? "critical" : "warning", done };
  return order.connectedAt ? { words: "built and connected", level: "clear", done } : { words: "built; it is being connected", level: "warning", done };
}
