import { describe, expect, it } from "vitest";
import { localTime, readLocal } from "./localTime";

describe("a moment as people write it", () => {
  it("comes back as it was", () => { for (const ms of [0, 1_795_000_020_000, 1_711_850_400_000]) expect(readLocal(localTime(ms))).toBe(Math.floor(ms / 60_000) * 60_000); });
  it("is none where it is misspelt or does not exist", () => { for (const text of ["", "yesterday", "2026-13-01 06:00", "2026-02-30 06:00", "2026-11-24 25:00"]) expect(readLocal(text)).toBeNull(); });
});
