import { expect, test } from "vitest";
import { money } from "./cost";

test("a price has its currency, and digits enough where it is small", () => {
  expect(money(12.3456, "EUR")).toBe("12.35 EUR");
  expect(money(0.01234, null)).toBe("0.012");
});
