import { expect, it } from "vitest";
import { emptyDraft, fromDocument, raisedWhen, toDocument } from "./sentence";

it("a rule comes back from its sentence as it was", () => {
  const document = { rule: "Ledger replies slowly", when: "a -> max", above: "400ms", below: null, hold: "5m", clear: { above: null, below: "300ms", hold: "2m" }, severity: "major" as const, missing: "keep" as const, tell: ["on-duty"], runbook: "https://x", wait: "30s", cluster: "c" };
  expect(toDocument(fromDocument(document), "c")).toEqual(document);
});

it("a rule that follows the usual comes back too, without bounds of its own", () => {
  const document = { rule: "Bids", when: "a -> rate", usual: { side: "low" as const, spreads: 6, weeks: 3 } };
  const back = toDocument({ ...fromDocument(document), clearBound: "1", bound: "2" }, "c");
  expect(back).toMatchObject({ above: null, below: null, clear: null, usual: document.usual });
  expect(raisedWhen(back)).toBe("unusually low");
  expect(toDocument(emptyDraft("a"), "c")).not.toHaveProperty("usual");
});

it("what is left empty is left out", () => {
  const document = toDocument({ ...emptyDraft("a"), rule: " x ", bound: "1" }, "c");
  expect(document).toMatchObject({ rule: "x", above: "1", below: null, clear: null, runbook: null, tell: [] });
});
