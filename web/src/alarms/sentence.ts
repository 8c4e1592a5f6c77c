import type { Schemas } from "../api/client";

/** A rule as the editor holds it: every field is text, empty where it is left to the default. */
export interface Draft {
  rule: string;
  when: string;
  side: "above" | "below";
  bound: string;
  hold: string;
  clearBound: string;
  clearHold: string;
  severity: Schemas["Severity"];
  missing: Schemas["MissingData"];
  tell: string;
  runbook: string;
  wait: string;
}

export const emptyDraft = (when: string): Draft => ({ rule: "", when, side: "above", bound: "", hold: "1m", clearBound: "", clearHold: "", severity: "major", missing: "keep", tell: "", runbook: "", wait: "" });

export const fromDocument = (document: Schemas["RuleDocument"]): Draft => ({
  rule: document.rule, when: document.when, side: document.below ? "below" : "above", bound: document.above ?? document.below ?? "", hold: document.hold ?? "",
  clearBound: document.clear?.below ?? document.clear?.above ?? "", clearHold: document.clear?.hold ?? "", severity: document.severity ?? "major", missing: document.missing ?? "keep",
  tell: (document.tell ?? []).join(", "), runbook: document.runbook ?? "", wait: document.wait ?? "",
});

/** The draft as the document the server takes; what is empty is left out. */
export function toDocument(draft: Draft, cluster: string): Schemas["RuleDocument"] {
  const text = (value: string) => (value.trim() ? value.trim() : null);
  const clear = text(draft.clearBound) || text(draft.clearHold) ? { above: draft.side === "below" ? text(draft.clearBound) : null, below: draft.side === "above" ? text(draft.clearBound) : null, hold: text(draft.clearHold) } : null;
  return {
    rule: draft.rule.trim(), when: draft.when, above: draft.side === "above" ? text(draft.bound) : null, below: draft.side === "below" ? text(draft.bound) : null, hold: text(draft.hold),
    clear, severity: draft.severity, missing: draft.missing, tell: draft.tell.split(",").map((name) => name.trim()).filter(Boolean), runbook: text(draft.runbook), wait: text(draft.wait), cluster,
  };
}
