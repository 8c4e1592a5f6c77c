import { describe, expect, it } from "vitest";
import { namesOf, scopeText } from "./scope";

describe("what somebody may see", () => {
  it("is everything without limits", () => expect(scopeText({ clusters: null, namespaces: null })).toBe("everything"));
  it("names clusters and namespaces", () => expect(scopeText({ clusters: ["larkfield-north"], namespaces: ["auction", "payout"] })).toBe("larkfield-north; auction, payout"));
  it("tells none from all", () => expect(scopeText({ clusters: [], namespaces: null })).toBe("no cluster; all namespaces"));
  it("is read from names with commas or blanks", () => expect(namesOf(" auction, payout auction ")).toEqual(["auction", "payout"]));
  it("is all where nothing is written", () => expect(namesOf("  ")).toBeNull());
});
