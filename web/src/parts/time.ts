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

export const ago = (ms: number, now: number) => (now - ms < 1500 ? "just now" : `${length((now - ms) / 1000)} ago`);

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
