import { describe, expect, it } from "vitest";
import { choicesOf, choiceWords, readChosen, sourceOf, tidy, withChosen, writeChosen } from "./choices";

describe("choices", () => {
  it("stand in the address, several values a field", () => {
    const choices = [{ field: "node" }, { field: "http.route" }];
    const search = writeChosen(writeChosen(new URLSearchParams("cluster=larkfield-north"), "node", ["north-1", "north,2"]), "http.route", ["/bids"]);
    expect(readChosen(new URLSearchParams(search.toString()), choices)).toEqual({ node: ["north-1", "north,2"], "http.route": ["/bids"] });
    expect(readChosen(writeChosen(search, "node", []), choices)).toEqual({ "http.route": ["/bids"] });
    expect(readChosen(search, [])).toEqual({});
  });

  it("are read as they are written, also half typed", () => {
    const text = "node, level of logs, ";
    expect(choiceWords(choicesOf(text))).toBe(text);
    expect(tidy(choicesOf(text))).toEqual([{ field: "node", from: null }, { field: "level", from: "logs" }]);
    expect(choicesOf("")).toEqual([]);
  });

  it("name what an enquiry begins with", () => {
    expect(sourceOf("container.cpu.time -> rate")).toBe("container.cpu.time");
    expect(sourceOf("failed: spans -> count every 1m; failed / 2")).toBe("spans");
    expect(sourceOf("`container.cpu.time`\n -> rate")).toBe("container.cpu.time");
  });

  it("become steps behind each source, not behind formulas", () => {
    expect(withChosen("spans -> count every 1m", {})).toBe("spans -> count every 1m");
    expect(withChosen("failed: spans -> where status = \"error\" -> count every 1m; all: spans -> count every 1m; failed / all -> as percent", { service: ["ledger"], "odd name": ["a", 'b"c'] }))
      .toBe('failed: spans -> where service = "ledger" -> where `odd name` in ("a", "b\\"c") -> where status = "error" -> count every 1m; all: spans -> where service = "ledger" -> where `odd name` in ("a", "b\\"c") -> count every 1m; failed / all -> as percent');
    expect(withChosen("logs\n  -> count every 1m", { level: ["warn"] })).toBe('logs -> where level = "warn" -> count every 1m');
  });
});
