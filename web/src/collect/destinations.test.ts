import { expect, test } from "vitest";
import { destinationMistake, signalsOf } from "./destinations";

test("a destination needs a name of its own, an address and a signal", () => {
  const one = { name: "archive", url: "https://store.example:4318", signals: null };
  expect(signalsOf(one)).toEqual(["metrics", "logs", "traces"]);
  expect(destinationMistake(one, [])).toBeNull();
  expect(destinationMistake(one, ["archive"])).toMatch(/Another/);
  expect(destinationMistake({ ...one, name: "Archive" }, [])).toMatch(/small letters/);
  for (const url of ["store.example", "https://", "ftp://store.example", "https://a:b@store.example", "https://store.example?x=1"]) expect(destinationMistake({ ...one, url }, [])).toMatch(/address/);
  expect(destinationMistake({ ...one, signals: [] }, [])).toMatch(/Nothing/);
});
