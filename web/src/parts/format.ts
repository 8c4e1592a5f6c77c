/** Numbers with units as people read them. Units are UCUM codes. */

export interface Scale {
  /** Divide a value by this before writing it. */
  divisor: number;
  /** Written after it. */
  unit: string;
}

const bytes: [number, string][] = [[2 ** 40, "TiB"], [2 ** 30, "GiB"], [2 ** 20, "MiB"], [2 ** 10, "KiB"], [1, "B"]];
const seconds: [number, string][] = [[86400, "d"], [3600, "h"], [60, "min"], [1, "s"], [1e-3, "ms"], [1e-6, "µs"]];
const plain: [number, string][] = [[1e9, "G"], [1e6, "M"], [1e4, "k"], [1, ""]];

/** The scale in which the greatest of some values reads well. */
export function scaleFor(unit: string, greatest: number): Scale {
  const rate = unit.endsWith("/s");
  const base = rate ? unit.slice(0, -2) : unit;
  const size = Math.abs(greatest);
  const pick = (steps: [number, string][]) => steps.find(([factor]) => size >= factor) ?? steps[steps.length - 1]!;
  const tail = rate ? "/s" : "";
  if (base === "By") {
    const [divisor, name] = size === 0 ? [1, "B"] : pick(bytes);
    return { divisor, unit: name + tail };
  }
  if (base === "s" && !rate) {
    const [divisor, name] = size === 0 ? [1, "s"] : pick(seconds);
    return { divisor, unit: name };
  }
  if (base === "{core}") return size > 0 && size < 0.1 ? { divisor: 1e-3, unit: "mcore" } : { divisor: 1, unit: size === 1 ? "core" : "cores" };
  const word = base === "1" || base === "" ? "" : base.replace(/[{}]/g, "");
  const [divisor, name] = size < 1e4 ? [1, ""] : pick(plain);
  return { divisor, unit: `${name}${name && word ? " " : ""}${word}${tail}` };
}

/** Three or four digits that matter, without an exponent. */
export function digits(value: number): string {
  const size = Math.abs(value);
  if (size === 0) return "0";
  const places = size >= 100 ? 0 : size >= 10 ? 1 : size >= 1 ? 2 : size >= 0.1 ? 3 : 4;
  return value.toFixed(places).replace("-", "−");
}

/** A value with its unit in a scale of its own. */
export function withUnit(value: number | null | undefined, unit: string): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return "–";
  const scale = scaleFor(unit, value);
  return `${digits(value / scale.divisor)}${scale.unit ? " " + scale.unit : ""}`;
}

/** Whole numbers in groups of three, with a thin space. */
export const whole = (value: number) => Math.round(value).toString().replace(/\B(?=(\d{3})+(?!\d))/g, "\u2009");

/** What a unit is called in a sentence. */
export const unitWord = (unit: string) => (unit === "{core}" ? "cores" : unit === "By" ? "bytes" : unit === "By/s" ? "bytes a second" : unit === "s" ? "seconds" : unit === "1/s" ? "per second" : unit === "1" || unit === "" ? "" : unit.replace(/[{}]/g, ""));
