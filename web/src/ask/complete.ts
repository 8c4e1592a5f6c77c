/** What may come next at the cursor. */
export type Expecting = "source" | "step" | "field" | "value" | "function" | "word";

export interface Place {
  expecting: Expecting;
  /** The word being typed. */
  word: string;
  /** Where it begins. */
  from: number;
  metric: string;
  /** For values: the field compared. */
  field: string;
  /** For words: which there are. */
  words?: string[];
}

const following: [RegExp, string[]][] = [[/^gaps$/, ["zero", "hold"]], [/^parse$/, ["json"]], [/^parse\s+(json|".*")$/, ["from"]], [/^differ$/, ["where"]], [/^graph$/, ["addresses"]], [/^order\s+\S+$/, ["down"]]];

/** Reads the text before the cursor far enough to know what fits there. */
export function placeAt(text: string, cursor: number): Place {
  const before = text.slice(0, cursor);
  // Only the part the cursor stands in matters; a part may have a name before its source.
  const part = before.slice(Math.max(before.lastIndexOf(";") + 1, ...[...before.matchAll(/\n(?!\s*->)/g)].map((match) => match.index + 1), 0));
  const parts = part.replace(/^\s*[\w.]+\s*:\s*/, "").split("->");
  const metric = parts[0]!.replace(/#.*$/gm, "").trim().split(/\s/)[0] ?? "";
  // An odd number of quotes means that a text is open.
  const open = (before.split('"').length - 1) % 2 === 1;
  const word = open ? before.slice(before.lastIndexOf('"')) : /[\w.]*$/.exec(before)![0];
  const base = { word, from: cursor - word.length, metric, field: "" };
  if (parts.length === 1) return { ...base, expecting: "source" };
  const step = parts[parts.length - 1]!;
  const spoken = step.slice(0, step.length - word.length).trim();
  if (spoken === "") return { ...base, expecting: "step" };
  const compared = /([\w.]+)\s*(?:=|!=|<=|>=|<|>|\blike|\bmatches|\bsays|\bin\s*\([^)]*)\s*$/.exec(spoken);
  if (/^(differ\s+)?where\b/.test(spoken) && compared) return { ...base, expecting: "value", field: compared[1]! };
  if (/^((highest|lowest)\s+\d+\s+by|over\s+\d+[a-z]+)$/.test(spoken)) return { ...base, expecting: "function" };
  const words = following.find(([before]) => before.test(spoken))?.[1];
  if (words) return { ...base, expecting: "word", words };
  if (/^(differ\s+)?where$/.test(spoken) || /^set\s+[\w.]+\s*=(.*[-+*/(])?$|\bfrom$/.test(spoken) || /\b(and|or|not|by|except)$|[(,]$/.test(spoken)) return { ...base, expecting: "field" };
  if (/^(count|sum|mean|min|max|distinct|stddev|first|last|p[\d.]+|show|order)$/.test(spoken)) return { ...base, expecting: "field" };
  return { ...base, expecting: "step" };
}
