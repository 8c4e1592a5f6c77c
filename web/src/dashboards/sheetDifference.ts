import type { Sheet, Strip } from "./sheets";

type Draft = Pick<Sheet, "title" | "about" | "strips" | "choices">;

const named: [keyof Strip, string][] = [["title", "title"], ["subtitle", "of what"], ["text", "enquiry"], ["draw", "drawn as"], ["height", "height"], ["by", "told apart by"], ["about", "meaning"], ["kept", "kept enquiry"], ["bounds", "bounds"], ["colours", "colours"]];

function plain(value: unknown): string {
  if (value === null || value === undefined) return "";
  if (Array.isArray(value)) return value.map((one: { field?: string; from?: string | null; at?: string; severity?: string; below?: boolean }) => (one.field !== undefined ? (one.from ? `${one.field} of ${one.from}` : one.field) : `${one.severity} ${one.below ? "below" : "above"} ${one.at}`)).join(", ");
  return typeof value === "object" ? Object.entries(value).map(([name, word]) => `${name}: ${word}`).join(", ") : String(value);
}

export interface SheetChange { strip: string; text: string; before?: string; after?: string }

/** What an earlier state of a sheet has otherwise than a later one, in the order of the later. Strips are the same where their titles are, else where their enquiries are. */
export function sheetDifference(before: Draft, after: Draft): SheetChange[] {
  const changes: SheetChange[] = [];
  for (const [key, text] of [["title", "title"], ["about", "what it is for"], ["choices", "choices"]] as const)
    if (plain(before[key]) !== plain(after[key])) changes.push({ strip: "", text, before: plain(before[key]), after: plain(after[key]) });
  const left = before.strips.map((strip, at) => ({ strip, at }));
  const take = (same: (one: Strip) => boolean) => { const i = left.findIndex(({ strip }) => same(strip)); return i < 0 ? undefined : left.splice(i, 1)[0]; };
  const pairs = after.strips.map((strip) => ({ strip, old: take((one) => one.title === strip.title) }));
  for (const pair of pairs) pair.old ??= take((one) => one.text === pair.strip.text);
  for (const { strip, old } of pairs) {
    if (!old) changes.push({ strip: strip.title, text: "added", after: strip.text });
    else for (const [key, text] of named) if (plain(old.strip[key]) !== plain(strip[key])) changes.push({ strip: strip.title, text, before: plain(old.strip[key]), after: plain(strip[key]) });
  }
  for (const { strip } of left) changes.push({ strip: strip.title, text: "taken out", before: strip.text });
  // Moved is what left the order the others keep: all that is not on a longest run of rising places.
  const places = pairs.flatMap(({ strip, old }) => (old ? [{ title: strip.title, at: old.at }] : []));
  const stays = longestRising(places.map(({ at }) => at));
  places.forEach(({ title, at }, i) => { if (!stays.has(i)) changes.push({ strip: title, text: "moved", before: `place ${at + 1}`, after: `place ${after.strips.findIndex((one) => one.title === title) + 1}` }); });
  return changes;
}

function longestRising(values: number[]): Set<number> {
  const best: { length: number; from: number }[] = [];
  values.forEach((value, i) => {
    let [length, from] = [1, -1];
    for (let j = 0; j < i; j++) if (values[j]! < value && best[j]!.length + 1 > length) [length, from] = [best[j]!.length + 1, j];
    best.push({ length, from });
  });
  const kept = new Set<number>();
  for (let i = best.reduce((top, one, j) => (top < 0 || one.length > best[top]!.length ? j : top), -1); i >= 0; i = best[i]!.from) kept.add(i);
  return kept;
}
