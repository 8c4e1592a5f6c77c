import type { Schemas } from "../api/client";

export type SheetChoice = Schemas["SheetChoice"];
/** Field → values chosen of it; a field without values is not chosen by. */
export type Chosen = Record<string, string[]>;

const prefix = "choose.";

/** What the address says was chosen: one parameter a value, so that a link carries it. */
export function readChosen(search: URLSearchParams, choices: SheetChoice[]): Chosen {
  return Object.fromEntries(choices.map(({ field }): [string, string[]] => [field, [...new Set(search.getAll(prefix + field))]]).filter(([, values]) => values.length > 0));
}

export function writeChosen(search: URLSearchParams, field: string, values: string[]): URLSearchParams {
  const next = new URLSearchParams(search);
  next.delete(prefix + field);
  values.forEach((value) => next.append(prefix + field, value));
  return next;
}

/** What an enquiry begins with, the first of several parts; empty where that cannot be told. */
export function sourceOf(text: string): string {
  const first = text.split(/->|;|\n/)[0]!.trim();
  return first.replace(/^[\w]+:\s*/, "").replaceAll("`", "").trim();
}

/** Choices as a person writes them: "node, level of logs"; a comma behind the last one stays while it is typed. */
export const choiceWords = (choices: SheetChoice[]): string => choices.map(({ field, from }) => (from ? `${field} of ${from}` : field)).join(",");
/** Choices without what typing leaves behind. */
export const tidy = (choices: SheetChoice[]): SheetChoice[] => choices.map(({ field, from }) => ({ field: field.trim(), from: from?.trim() || null })).filter(({ field }, i, all) => field && all.findIndex((one) => one.field.trim() === field) === i);
export const choicesOf = (text: string): SheetChoice[] => (text === "" ? [] : text.split(",").map((part) => { const [field, from] = part.split(/ of (?=\S)/); return { field: field!, from: from ?? null }; }));

const written = (value: string) => `"${value.replaceAll("\\", "\\\\").replaceAll('"', '\\"')}"`;
const bare = /^[A-Za-z][\w]*(\.[\w]+)*$/;

/** The enquiry with what was chosen as steps behind each source, as the server takes it; parts that begin with a formula have none. */
export function withChosen(text: string, chosen: Chosen): string {
  const steps = Object.entries(chosen).map(([field, values]) => `-> where ${bare.test(field) ? field : `\`${field}\``} ${values.length === 1 ? `= ${written(values[0]!)}` : `in (${values.map(written).join(", ")})`}`);
  if (steps.length === 0) return text;
  const parts = text.split(/;|\n(?!\s*->)/);
  const names = parts.map((part) => /^\s*([A-Za-z]\w*):/.exec(part)?.[1]).filter((name) => name !== undefined);
  return parts.map((part) => {
    const [head, ...rest] = part.split("->");
    const source = head!.replace(/^\s*[A-Za-z]\w*:/, "").trim();
    const formula = names.some((name) => new RegExp(`\\b${name}\\b`).test(source)) || !source;
    return formula ? part.trim() : [head!.trim(), ...steps, ...rest.map((step) => `-> ${step.trim()}`)].join(" ");
  }).join("; ");
}
