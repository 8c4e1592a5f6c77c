/** Pure parts of the time strip. */

export interface StripMark { at: number; kind: string; text: string }
export interface GatheredMark { at: number; kind: string; text: string; count: number; all: StripMark[] }

/** Marks whose labels would collide become one with a count; the gravest kind names it. */
export function gather(marks: StripMark[], x: (at: number) => number, room: number, width: number): GatheredMark[] {
  const gravest = ["rollout", "restart", "alarm"];
  const out: GatheredMark[] = [];
  for (const mark of [...marks].sort((a, b) => a.at - b.at)) {
    const last = out[out.length - 1];
    if (last && x(mark.at) - x(last.at) < room) {
      last.all.push(mark);
      last.count++;
      if (gravest.indexOf(mark.kind) > gravest.indexOf(last.kind)) [last.kind, last.text] = [mark.kind, mark.text];
    } else if (x(mark.at) >= 0 && x(mark.at) <= width) out.push({ ...mark, count: 1, all: [mark] });
  }
  return out;
}

/** Moves a window by a share of its length, never past now. */
export function shift(window: { from: number; to: number }, share: number, now: number): { from: number; to: number } {
  const by = (window.to - window.from) * share;
  const over = Math.max(0, window.to + by - now);
  return { from: window.from + by - over, to: window.to + by - over };
}

/** Hours at which the strip writes a time. */
export function hours(from: number, to: number): number[] {
  const step = (to - from) / 3_600_000 > 30 ? 24 : 3;
  const first = new Date(from);
  first.setMinutes(0, 0, 0);
  const out: number[] = [];
  for (let t = first.getTime(); t <= to; t += 3_600_000) if (t >= from && new Date(t).getHours() % step === 0) out.push(t);
  return out;
}
