import { expect, test } from "vitest";
import { nextPage } from "./pageTurning";

test("pages are turned to the end and begin anew", () => {
  expect(nextPage(0, 600, 1500)).toBe(600);
  expect(nextPage(600, 600, 1500)).toBe(900);
  expect(nextPage(900, 600, 1500)).toBe(0);
  expect(nextPage(0, 600, 1500, -1)).toBe(900);
  expect(nextPage(0, 600, 400)).toBe(0);
});
