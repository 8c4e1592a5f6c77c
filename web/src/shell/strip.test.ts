import { describe, expect, it } from "vitest";
import { gather, hours, shift } from "./strip";
import { readView, writeView } from "./view";

describe("the time strip", () => {
  const x = (at: number) => at;
  it("gathers marks that would collide, the gravest names them", () => {
    const marks = gather([{ at: 100, kind: "rollout", text: "r1" }, { at: 110, kind: "alarm", text: "slow" }, { at: 400, kind: "restart", text: "killed" }], x, 120, 1000);
    expect(marks.map((mark) => [mark.text, mark.count])).toEqual([["slow", 2], ["killed", 1]]);
    expect(marks[0]!.all.map((mark) => mark.text)).toEqual(["r1", "slow"]);
  });
  it("leaves out marks beyond its ends", () => expect(gather([{ at: -5, kind: "alarm", text: "a" }, { at: 1200, kind: "alarm", text: "b" }], x, 10, 1000)).toEqual([]));
  it("never moves past now", () => expect(shift({ from: 0, to: 100 }, 0.5, 120)).toEqual({ from: 20, to: 120 }));
  it("moves back by a share of the length", () => expect(shift({ from: 100, to: 200 }, -0.5, 500)).toEqual({ from: 50, to: 150 }));
  it("writes every third hour of a day", () => {
    const begin = new Date(2026, 10, 24, 0, 10).getTime();
    expect(hours(begin, begin + 86_400_000).map((at) => new Date(at).getHours())).toEqual([3, 6, 9, 12, 15, 18, 21, 0]);
  });
});

describe("the address", () => {
  it("follows now unless both ends are given", () => {
    expect(readView(new URLSearchParams("last=600")).last).toBe(600);
    expect(readView(new URLSearchParams("")).last).toBe(3600);
    expect(readView(new URLSearchParams("from=1000&to=2000"))).toMatchObject({ last: null, from: 1000, to: 2000 });
    expect(readView(new URLSearchParams("from=2000&to=1000")).last).toBe(3600);
  });
  it("leaves out what is empty and keeps what it does not know", () => expect(writeView(new URLSearchParams("q=a&namespace=x"), { namespace: "", last: 60.4 }).toString()).toBe("q=a&last=60"));
});
