import { describe, expect, it } from "vitest";
import { placeAt } from "./complete";
import { applyCure } from "./cure";

describe("completion", () => {
  const at = (text: string) => placeAt(text, text.length);
  it.each([
    ["cont", "source", "cont"], ["a -> ra", "step", "ra"], ["a -> where na", "field", "na"], ["a -> where b = \"au", "value", "\"au"],
    ["a -> where b = \"x\" and ", "field", ""], ["a -> sum by po", "field", "po"], ["a -> highest 5 by m", "function", "m"], ["a -> where b in (\"x\", \"y", "value", "\"y"],
    ["a -> over 10m ma", "function", "ma"], ["a -> gaps ho", "word", "ho"], ["logs -> parse js", "word", "js"], ["logs -> parse json from bo", "field", "bo"], ["spans -> set x = dur", "field", "dur"], ["spans -> set x = a * dur", "field", "dur"],
    ["spans -> differ where sta", "field", "sta"], ["spans -> differ where status = \"er", "value", "\"er"], ["spans -> last du", "field", "du"],
  ])("after %s a %s is expected", (text, expecting, word) => {
    const place = at(text);
    expect([place.expecting, place.word, place.from]).toEqual([expecting, word, text.length - word.length]);
  });
  it("knows metric and field", () => expect(at("container.cpu.time -> where namespace = ")).toMatchObject({ metric: "container.cpu.time", field: "namespace", expecting: "value" }));
});

describe("cures", () => {
  it("put the nearest value in place of the one that matched nothing", () => expect(applyCure("a -> where workload = \"ledgr\" -> rate", "workload = \"ledger\"")).toBe("a -> where workload = \"ledger\" -> rate"));
  it("put another namespace", () => expect(applyCure("a -> where namespace = \"x\" and b = \"c\"", "where namespace = \"payout\"")).toBe("a -> where namespace = \"payout\" and b = \"c\""));
  it("add a step", () => expect(applyCure("a\n", "rate")).toBe("a\n  -> rate"));
});
