import { expect, test } from "vitest";
import { answerWords } from "./probe";

const attempt = { from: "north-1", to: "auction/clock", by: "name", host: "clock.auction.svc.cluster.local", port: 8080, family: "IPv6", sameNode: false };

test("an attempt is said in words", () => {
  expect(answerWords({ attempt, answer: { addresses: ["2001:db8:1:f::3"], lookUpMs: 1, connectMs: 2, error: null } })).toBe("2001:db8:1:f::3; port 8080 answers");
  expect(answerWords({ attempt: { ...attempt, port: 0 }, answer: { addresses: ["192.0.2.1"], lookUpMs: 1, connectMs: null, error: null } })).toBe("192.0.2.1; looked up");
  expect(answerWords({ attempt, answer: { addresses: [], lookUpMs: 3, connectMs: null, error: "the name has no address in this family" } })).toBe("the name has no address in this family");
});
