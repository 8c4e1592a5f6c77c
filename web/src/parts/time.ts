/** Times and lengths of time in words. */

const pad = (value: number) => value.toString().padStart(2, "0");
const days = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];
const months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

export const clock = (ms: number) => { const t = new Date(ms); return `${pad(t.getHours())}:${pad(t.getMinutes())}`; };
export const clockSeconds = (ms: number) => `${clock(ms)}:${pad(new Date(ms).getSeconds())}`;
export const day = (ms: number) => { const t = new Date(ms); return `${days[t.getDay()]} ${t.getDate()} ${months[t.getMonth()]}`; };
export const exact = (ms: number) => `${day(ms)} ${clockSeconds(ms)}`;

/** 90 → "1 min 30 s"; two parts at most. */
export function length(seconds: number): string {
  const total = Math.max(0, Math.round(seconds));
  const parts: [number, string][] = [[Math.floor(total / 86400), "d"], [Math.floor(total / 3600) % 24, "h"], [Math.floor(total / 60) % 60, "min"], [total % 60, "s"]];
  const first = parts.findIndex(([count]) => count > 0);
  if (first < 0) return "0 s";
  return parts.slice(first, first + 2).filter(([count]) => count > 0).map(([count, unit]) => `${count} ${unit}`).join(" ");
}

export const ago = (ms: number, now: number) => (now - ms < 1500 ? "just now" : `${length(coarse((now - ms) / 1000))} ago`)

/** From ten minutes on seconds no longer matter, from ten hours on minutes. */
const coarse = (seconds: number) => (seconds >= 36_000 ? Math.floor(seconds / 3600) * 3600 : seconds >= 600 ? Math.floor(seconds / 60) * 60 : seconds);

/** "2h 30m", "90min", "1d" → seconds; null where it is no length. */
export function parseLength(text: string): number | null {
  const units: Record<string, number> = { s: 1, sec: 1, m: 60, min: 60, h: 3600, d: 86400, w: 604800 };
  const parts = [...text.trim().toLowerCase().matchAll(/(\d+(?:\.\d+)?)\s*([a-z]+)\s*/g)];
  if (parts.length === 0 || parts.map((part) => part[0]).join("").trim() !== text.trim().toLowerCase()) return null;
  let total = 0;
  for (const [, count, unit] of parts) {
    const factor = units[unit!];
    if (!factor) return null;
    total += Number(count) * factor;
  }
  return total > 0 ? total : null;
}

/** "06:40" (today, or yesterday where that lies ahead) or "2026-11-24 06:40" → epoch ms; null where it is no time. */
export function parseTime(text: string, now: number): number | null {
  const trimmed = text.trim();
  const short = /^(\d{1,2}):(\d{2})(?::(\d{2}))?$/.exec(trimmed);
  if (short) {
    const t = new Date(now);
    t.setHours(Number(short[1]), Number(short[2]), Number(short[3] ?? 0), 0);
    return t.getTime() > now ? t.getTime() - 86_400_000 : t.getTime();
  }
  const full = /^\d{4}-\d{2}-\d{2}[ T]\d{1,2}:\d{2}(:\d{2})?$/.test(trimmed) ? Date.parse(trimmed.replace(" ", "T")) : NaN;
  return Number.isFinite(full) ? full : null;
}

/** Round moments of the local day within a window, about as many as wanted. */
export function ticks(from: number, to: number, wanted: number): number[] {
  const steps = [10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400].map((seconds) => seconds * 1000);
  const step = steps.find((one) => (to - from) / one <= wanted) ?? steps[steps.length - 1]!;
  const zone = new Date(from).getTimezoneOffset() * 60_000;
  const out: number[] = [];
  for (let tick = Math.ceil((from - zone) / step) * step + zone; tick <= to; tick += step) out.push(tick);
  return out;
}
