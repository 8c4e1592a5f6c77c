import { describe, expect, it } from "vitest";
import { themes } from "../theme";
import { beyond, colourOf, colourWords, drawnBounds } from "./bounds";

describe("bounds", () => {
  const bounds = drawnBounds([{ at: "80%", severity: "minor", below: false }, { at: "95%", severity: "critical", below: false }, { at: "5%", severity: "warning", below: true }, { at: "5s", severity: "major", below: false }], [80, 95, 5, null]);

  it("leave out what does not fit the unit", () => expect(bounds.map((bound) => bound.value)).toEqual([80, 95, 5]));

  it("name the gravest a value is beyond; on a bound it is within", () => {
    expect([3, 5, 40, 80, 81, 96, null].map((value) => beyond(value, bounds))).toEqual(["warning", null, null, null, "minor", "critical", null]);
  });

  it("have a colour for each word in both themes", () => {
    for (const theme of [themes.light, themes.dark]) for (const word of colourWords) expect(colourOf(theme, word)).toMatch(/^#/);
    expect(colourOf(themes.light, "ground")).toBeUndefined();
  });
});
