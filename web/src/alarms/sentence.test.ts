import { expect, it } from "vitest";
import { emptyDraft, fromDocument, toDocument } from "./sentence";

it("a rule comes back from its sentence as it was", () => {
  const document = { rule: "Ledger replies slowly", when: "a -> max", above: "400ms", below: null, hold: "5m", clear: { above: null, below: "300ms", hold: "2m" }, severity: "major" as const, missing: "keep" as const, tell: ["on-duty"], runbook: "https://x", wait: "30s", cluster: "c" };
  expect(toDocument(fromDocument(document), "c")).toEqual(document);
});

it("what is left empty is left out", () => {
  const document = toDocument({ ...emptyDraft("a"), rule: " x ", bound: "1" }, "c");
  expect(document).toMatchObject({ rule: "x", above: "1", below: null, clear: null, runbook: null, tell: [] });
});
