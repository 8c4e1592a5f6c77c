import { expect, test } from "vitest";
import { lineOf } from "./rawPage";

test("the line an error speaks of is found", () => {
  expect(lineOf("malformed: line 12: a label is not closed")).toBe(12);
  expect(lineOf("connection refused")).toBeNull();
});
