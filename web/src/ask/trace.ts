import type { Schemas } from "../api/client";

export type TraceSpan = Schemas["TraceSpan"];

/** A span's place: its lane, and its row inside the lane, times in milliseconds from the trace's begin. */
export interface PlacedSpan { span: TraceSpan; lane: number; row: number; from: number; to: number }
export interface Lane { workload: string; rows: number }

export interface TraceLayout { begin: number; length: number; lanes: Lane[]; spans: PlacedSpan[] }

/** One lane a workload in the order they were first called; spans that would lie on each other get rows of their own. A call whose answer is in the trace has no bar of its own. */
export function layOut(spans: TraceSpan[]): TraceLayout {
  const answered = new Set(spans.filter((span) => span.kind === "server" || span.kind === "consumer").map((span) => span.parent));
  const shown = spans.filter((span) => !(span.kind === "client" || span.kind === "producer") || !answered.has(span.span));
  const ordered = [...(shown.length > 0 ? shown : spans)].sort((a, b) => a.start - b.start || b.duration - a.duration);
  const begin = Math.min(...spans.map((span) => span.start));
  const end = Math.max(...spans.map((span) => span.start + span.duration * 1000));
  const lanes: (Lane & { ends: number[] })[] = [];
  const placed = ordered.map((span) => {
    const name = laneOf(span, spans);
    let lane = lanes.findIndex((one) => one.workload === name);
    if (lane < 0) lane = lanes.push({ workload: name, rows: 0, ends: [] }) - 1;
    const [from, to] = [span.start - begin, span.start - begin + span.duration * 1000];
    const ends = lanes[lane]!.ends;
    let row = ends.findIndex((one) => one <= from);
    if (row < 0) row = ends.push(0) - 1;
    ends[row] = to;
    lanes[lane]!.rows = ends.length;
    return { span, lane, row, from, to };
  });
  return { begin, length: Math.max(end - begin, 0.001), lanes: lanes.map(({ workload, rows }) => ({ workload, rows })), spans: placed };
}

/** A call nobody in the trace answered is drawn where it went: outside. */
function laneOf(span: TraceSpan, spans: TraceSpan[]): string {
  const outside = span.kind === "client" && !spans.some((other) => other.parent === span.span);
  return outside && span.attributes["server.address"] ? `${span.attributes["server.address"]} (outside)` : span.workload;
}

/** A stretch of the path that set the time, milliseconds from the begin: while it ran nothing else could have ended the trace sooner. */
export interface PathPart { span: TraceSpan; from: number; to: number }

/** The path that set the time: from the end backwards, always into the child that ended last before. */
export function criticalPath(spans: TraceSpan[]): PathPart[] {
  const ids = new Set(spans.map((span) => span.span));
  const roots = spans.filter((span) => !span.parent || !ids.has(span.parent));
  const root = roots.sort((a, b) => b.start + b.duration * 1000 - (a.start + a.duration * 1000))[0];
  if (!root) return [];
  const begin = Math.min(...spans.map((span) => span.start));
  const children = new Map<string, TraceSpan[]>();
  for (const span of spans) if (span.parent) children.set(span.parent, [...(children.get(span.parent) ?? []), span]);
  const parts: PathPart[] = [];
  const walk = (span: TraceSpan, until: number) => {
    let at = Math.min(until, span.start + span.duration * 1000);
    const below = [...(children.get(span.span) ?? [])].sort((a, b) => b.start + b.duration * 1000 - (a.start + a.duration * 1000));
    for (const child of below) {
      const end = child.start + child.duration * 1000;
      if (end > at + 0.0005 || child.start < span.start - 0.0005) continue;
      if (at - end > 0.0005) parts.push({ span, from: end - begin, to: at - begin });
      walk(child, end);
      at = child.start;
    }
    if (at - span.start > 0.0005) parts.push({ span, from: span.start - begin, to: at - begin });
  };
  walk(root, Infinity);
  return parts.sort((a, b) => a.from - b.from);
}

/** Where the time went, in words, the most first: seconds and share of the whole. */
export function whereTimeWent(spans: TraceSpan[]): { words: string; seconds: number; share: number }[] {
  const path = criticalPath(spans);
  const whole = path.reduce((total, part) => total + part.to - part.from, 0);
  const answered = new Set(spans.map((span) => span.parent));
  const sums = new Map<string, number>();
  for (const { span, from, to } of path) {
    const called = span.kind === "client" || span.kind === "producer";
    const words = span.foreign ? "in a namespace you may not see"
      : called && answered.has(span.span) ? "on the way between workloads"
      : called ? `${span.attributes["server.address"] ?? span.name} ${span.status === "error" ? "did not answer" : "answers"}`
      : `work in ${span.workload}`;
    sums.set(words, (sums.get(words) ?? 0) + to - from);
  }
  return [...sums].map(([words, ms]) => ({ words, seconds: ms / 1000, share: whole > 0 ? ms / whole : 0 })).sort((a, b) => b.seconds - a.seconds);
}

/** Failed spans, those first whose failure has no failed child: there it began. */
export function failures(spans: TraceSpan[]): TraceSpan[] {
  const failed = spans.filter((span) => span.status === "error");
  const above = new Set(failed.map((span) => span.parent));
  return failed.sort((a, b) => Number(above.has(a.span)) - Number(above.has(b.span)) || Number(!!b.exception) - Number(!!a.exception) || a.start - b.start);
}
