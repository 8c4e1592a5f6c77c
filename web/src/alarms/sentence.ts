import type { Schemas } from "../api/client";

export type Side = "above" | "below" | "high" | "low" | "either";

/** A rule as the editor holds it: every field is text, empty where it is left to the default. */
export interface Draft {
  rule: string;
  when: string;
  side: Side;
  bound: string;
  hold: string;
  clearBound: string;
  clearHold: string;
  severity: Schemas["Severity"];
  missing: Schemas["MissingData"];
  tell: string;
  runbook: string;
  wait: string;
  /** How many spreads from the usual are too far, where the side is high, low or either. */
  spreads: string;
  /** From how many weeks before it is known what is usual. */
  weeks: string;
}

/** Whether the bound follows what is usual in the same hour of the week. */
export const followsUsual = (draft: Pick<Draft, "side">): boolean => draft.side !== "above" && draft.side !== "below";

export const emptyDraft = (when: string): Draft => ({ rule: "", when, side: "above", bound: "", hold: "1m", clearBound: "", clearHold: "", severity: "major", missing: "keep", tell: "", runbook: "", wait: "", spreads: "5", weeks: "4" });

export const fromDocument = (document: Schemas["RuleDocument"]): Draft => ({
  rule: document.rule, when: document.when, side: document.usual?.side ?? (document.usual ? "high" : document.below ? "below" : "above"), bound: document.above ?? document.below ?? "", hold: document.hold ?? "",
  clearBound: document.clear?.below ?? document.clear?.above ?? "", clearHold: document.clear?.hold ?? "", severity: document.severity ?? "major", missing: document.missing ?? "keep",
  tell: (document.tell ?? []).join(", "), runbook: document.runbook ?? "", wait: document.wait ?? "", spreads: String(document.usual?.spreads ?? 5), weeks: String(document.usual?.weeks ?? 4),
});

/** The draft as the document the server takes; what is empty is left out. */
export function toDocument(draft: Draft, cluster: string): Schemas["RuleDocument"] {
  const text = (value: string) => (value.trim() ? value.trim() : null);
  const usual = followsUsual(draft);
  const clearBound = usual ? null : text(draft.clearBound);
  const clear = clearBound || text(draft.clearHold) ? { above: draft.side === "below" ? clearBound : null, below: draft.side === "above" ? clearBound : null, hold: text(draft.clearHold) } : null;
  return {
    rule: draft.rule.trim(), when: draft.when, above: draft.side === "above" ? text(draft.bound) : null, below: draft.side === "below" ? text(draft.bound) : null, hold: text(draft.hold),
    clear, severity: draft.severity, missing: draft.missing, tell: draft.tell.split(",").map((name) => name.trim()).filter(Boolean), runbook: text(draft.runbook), wait: text(draft.wait), cluster,
    ...(usual ? { usual: { side: draft.side as Schemas["UsualSide"], spreads: Number(draft.spreads), weeks: Number(draft.weeks) } } : {}),
  };
}

/** When a rule is raised, for a table. */
export function raisedWhen(document: Schemas["RuleDocument"]): string {
  if (document.usual) return { high: "unusually high", low: "unusually low", either: "unusual" }[document.usual.side ?? "high"];
  return document.above ? `> ${document.above}` : document.below ? `< ${document.below}` : "outside";
}
