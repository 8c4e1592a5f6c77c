import { describe, expect, test } from "vitest";
import { withStep } from "./steps";

const formatted = "container.cpu.time\n  -> where namespace = \"auction\"\n  -> rate\n  -> sum by pod";
const plain = [{ scope: false }, { scope: false }, { scope: false }, { scope: false }];

describe("a step of the ledger", () => {
  test("is written anew where it stands", () => {
    expect(withStep(formatted, plain, 2, "rise every 5m")).toBe(formatted.replace("rate", "rise every 5m"));
    expect(withStep(formatted, plain, 2, " -> rise ")).toBe(formatted.replace("rate", "rise"));
    expect(withStep(formatted, plain, 0, "k8s.node.cpu.time")).toBe(formatted.replace("container.cpu.time", "k8s.node.cpu.time"));
  });
  test("is left out, but not the source", () => {
    expect(withStep(formatted, plain, 3, null)).toBe(formatted.replace("\n  -> sum by pod", ""));
    expect(withStep(formatted, plain, 3, "  ")).toBe(formatted.replace("\n  -> sum by pod", ""));
    expect(withStep(formatted, plain, 0, null)).toBe(formatted);
  });
  test("is added behind another", () => {
    expect(withStep(formatted, plain, 3, "highest 5", true)).toBe(formatted + "\n  -> highest 5");
    expect(withStep(formatted, plain, 3, "", true)).toBe(formatted);
  });
  test("is found behind what the scope added", () => {
    const scoped = [{ scope: false }, { scope: true }, { scope: false }, { scope: false }, { scope: false }];
    expect(withStep(formatted, scoped, 3, "rise")).toBe(formatted.replace("rate", "rise"));
    expect(withStep(formatted, scoped, 1, "highest 5", true)).toBe(formatted.replace("auction\"", "auction\"\n  -> highest 5"));
  });
  test("of a part that has a name keeps the others as they are", () => {
    const parts = "a: spans\n  -> count every 1m\nb: spans\n  -> where status = \"error\"\n  -> count every 1m\nb / a";
    const steps = Array.from({ length: 6 }, () => ({ scope: false }));
    expect(withStep(parts, steps, 3, "where status = \"ok\"")).toBe(parts.replace("error", "ok"));
    expect(withStep(parts, steps, 5, "a / b")).toBe(parts.replace("b / a", "a / b"));
  });
});
