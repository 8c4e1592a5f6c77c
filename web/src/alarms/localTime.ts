const pad = (value: number) => value.toString().padStart(2, "0");

/** A moment as people write it, in the time zone of the browser. */
export function localTime(ms: number): string {
  const t = new Date(ms);
  return `${t.getFullYear()}-${pad(t.getMonth() + 1)}-${pad(t.getDate())} ${pad(t.getHours())}:${pad(t.getMinutes())}`;
}

/** What was written so, in epoch milliseconds; null where it is no such moment. */
export function readLocal(text: string): number | null {
  const found = /^\s*(\d{4})-(\d\d)-(\d\d)[ T](\d\d):(\d\d)\s*$/.exec(text);
  if (!found) return null;
  const [year, month, day, hour, minute] = found.slice(1).map(Number) as [number, number, number, number, number];
  const moment = new Date(year, month - 1, day, hour, minute);
  return moment.getMonth() === month - 1 && moment.getDate() === day && moment.getHours() === hour && moment.getMinutes() === minute ? moment.getTime() : null;
}
