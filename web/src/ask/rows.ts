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

/** Adds a condition behind the enquiry's leading conditions, or to the last of them. */
export function withCondition(text: string, field: string, value: Cell): string {
  const name = /^[A-Za-z_][\w.]*$/.test(field) ? field : `\`${field}\``;
  const condition = `where ${name} = ${typeof value === "number" ? value : `"${String(value).replaceAll("\\", "\\\\").replaceAll('"', '\\"')}"`}`;
  const parts = text.trim().split(/\n?\s*->\s*/);
  let at = 1;
  while (at < parts.length && parts[at]!.startsWith("where ")) at++;
  parts.splice(at, 0, condition);
  return parts.join("\n  -> ");
}

/** Whether an enquiry's rows can be counted over time as they are: only conditions stand behind the source. */
export const onlyConditions = (text: string) => { const parts = text.trim().split(/\n?\s*->\s*/); return !text.includes(";") && parts.slice(1).every((part) => part.startsWith("where ")); };
