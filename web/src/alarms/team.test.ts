import { expect, test } from "vitest";
import { readPeople, readSteps, stepWords, writeSteps } from "./team";

test("steps are read from lines and written back", () => {
  const { steps, mistake } = readSteps("rota\n15m chief of the day\n\n 1 h auction-desk ");
  expect(mistake).toBeUndefined();
  expect(steps).toEqual([{ tell: "rota", after: null }, { tell: "chief of the day", after: "15m" }, { tell: "auction-desk", after: "1h" }]);
  expect(readSteps(writeSteps(steps)).steps).toEqual(steps);
  expect(steps.map(stepWords)).toEqual(["at once: whoever is on duty", "after 15m: chief of the day", "after 1h: auction-desk"]);
});

test("what cannot be read is named", () => {
  expect(readSteps("").mistake).toMatch(/told first/);
  expect(readSteps("15m chief").mistake).toMatch(/at once/);
  expect(readSteps("rota\nchief").mistake).toBe("Line 2: after how long, then whom, for example 15m chief.");
  expect(readPeople(" a \n\nb")).toEqual(["a", "b"]);
});
