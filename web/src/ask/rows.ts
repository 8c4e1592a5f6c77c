import { digits, scaleFor, withUnit } from "../parts/format";
import { clockSeconds } from "../parts/time";

export type Cell = string | number | null;
export interface RowColumn { name: string; unit: string }

/** A cell as people read it: moments with milliseconds, numbers in their unit, nothing as a dash. */
export function write(value: Cell, unit: string): string {
  if (value === null || value === undefined) return "";
  if (typeof value === "string") return value;
  if (unit === "time") return `${clockSeconds(value)}.${String(Math.floor(value % 1000)).padStart(3, "0")}`;
  // Counts are counted, not scaled: their unit stands above them.
  if (unit.startsWith("{")) return Number.isInteger(value) ? String(value) : digits(value);
  if (unit === "") return String(value);
  return withUnit(value, unit);
}

/** A column's title, with its unit where the cells do not carry it. */
export function title(column: RowColumn): string {
  if (column.unit === "" || column.unit === "time" || !column.unit.startsWith("{")) return column.name;
  const unit = scaleFor(column.unit, 1).unit;
  return unit === column.name.replace(/s$/, "") || unit === column.name ? column.name : `${column.name}, ${unit}`;
}

/** Columns that have a value in some row; one that says the same everywhere is left out where there are many. */
export function telling(columns: RowColumn[], rows: Cell[][], most: number): RowColumn[] {
  const filled = columns.filter((_, i) => rows.some((row) => row[i] !== null && row[i] !== ""));
  if (filled.length <= most || rows.length < 2) return filled;
  return filled.filter((column) => { const i = columns.indexOf(column); return new Set(rows.map((row) => row[i])).size > 1; });
}

const quoted = (text: string) => `"${text.replaceAll("\\", "\\\\").replaceAll('"', '\\"')}"`;
const stepsOf = (text: string) => text.trim().split(/\n?\s*->\s*/);
const joined = (steps: string[]) => steps.join("\n  -> ");
const conditionOf = (field: string, value: Cell) => `where ${/^[A-Za-z_][\w.]*$/.test(field) ? field : `\`${field}\``} = ${typeof value === "number" ? value : quoted(String(value))}`;

/** Adds a condition behind the steps that look at single rows, so that it may name a field they made. */
export function withCondition(text: string, field: string, value: Cell): string {
  const steps = stepsOf(text);
  let at = 1;
  while (at < steps.length && /^(where|parse|set) /.test(steps[at]!)) at++;
  steps.splice(at, 0, conditionOf(field, value));
  return joined(steps);
}

/** Keeps the series with one value of a label: near the source where there is one, else behind all that was computed. */
export const withLabel = (text: string, field: string, value: string): string =>
  /^\s*[A-Za-z_]\w*\s*:|;|\n(?!\s*->)/.test(text.trim()) ? `${text.trim()}\n  -> ${conditionOf(field, value)}` : withCondition(text, field, value);

/** The lines of one kind: in place of `kinds` and what follows, a condition that fits its template. */
export function linesOfKind(text: string, kind: string): string {
  const steps = stepsOf(text);
  const pattern = kind.split(" ").map((word) => word.split("{}").map((piece) => piece.replaceAll("{{", "{").replaceAll("}}", "}").replace(/[.*+?^${}()|[\]\\]/g, "\\$&")).join(".+?")).join("\\s+");
  return joined([...steps.slice(0, steps.indexOf("kinds")), `where text matches ${quoted(`^\\s*${pattern}`)}`]);
}

/** The rows of one difference: in place of `differ` and what follows, a condition for its value. */
export function rowsOfDifference(text: string, field: string, value: Cell): string {
  const steps = stepsOf(text);
  return joined([...steps.slice(0, steps.findIndex((step) => step.startsWith("differ "))), conditionOf(field, value)]);
}

/** Whether an enquiry's rows can be counted over time as they are: only conditions stand behind the source. */
export const onlyConditions = (text: string) => !text.includes(";") && stepsOf(text).slice(1).every((step) => step.startsWith("where "));
