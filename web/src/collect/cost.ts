import type { Schemas } from "../api/client";

/** Signals with what is counted of them. */
export const signals = [["metrics", "samples"], ["logs", "lines"], ["traces", "spans"], ["flows", "flow records"]] as const;

/** What an expected amount rests on. */
export const basisWords: Record<Schemas["SizeBasis"], string> = { counted: "counted", measured: "as measured", usual: "usual", unknown: "not known before" };

/** A price with its currency; small ones with more digits. */
export const money = (price: number, currency: string | null) => `${price.toFixed(price < 1 ? 3 : 2)} ${currency ?? ""}`.trim();
