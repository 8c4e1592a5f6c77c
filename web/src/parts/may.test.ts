import { describe, expect, it } from "vitest";
import { whyNot } from "./may";

describe("what one may do", () => {
  const session = { roles: ["reader", "author"], seenByKeeper: false };
  it("follows the role", () => { expect(whyNot(session, "author")).toBeNull(); expect(whyNot(session, "installer")).toContain("installer"); });
  it("is nothing with another's eyes", () => expect(whyNot({ ...session, seenByKeeper: true }, "author")).toContain("another's eyes"));
  it("is nothing before anybody is known", () => expect(whyNot(null, "reader")).toContain("reader"));
});
