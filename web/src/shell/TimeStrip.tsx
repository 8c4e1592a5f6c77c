import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import styled, { useTheme } from "styled-components";
import { api, got } from "../api/client";
import { Button } from "../parts/basics";
import { Choose, TextInput } from "../parts/fields";
import { clock, day, exact, length, parseLength, parseTime } from "../parts/time";
import { gather, hours, shift } from "./strip";
import { useNow, useView, useWindow } from "./view";

const slotMinutes = 10;
const slots = 144;
const span = slotMinutes * slots * 60_000;

const Bar = styled.footer`
  grid-area: strip;
  display: flex;
  border-top: 1px solid ${({ theme }) => theme.ink2};
  background: ${({ theme }) => theme.sheet};
  height: 78px;
`;
const Left = styled.div`
  width: 216px;
  flex: none;
  box-sizing: border-box;
  padding: 4px 10px 0 18px;
  b { display: block; letter-spacing: -0.2px; font: 600 12px/1.6 ${({ theme }) => theme.mono}; white-space: nowrap; }
  span { color: ${({ theme }) => theme.ink2}; }
  .line { display: flex; align-items: center; gap: 6px; height: 25px; }
  button { font-weight: 600; }
`;
const Draw = styled.div`
  flex: 1;
  position: relative;
  min-width: 0;
  margin-right: 24px;
  touch-action: none;
  @media (max-width: 700px) { display: none; }
  svg { display: block; width: 100%; height: 78px; }
  text { font: 11px ${({ theme }) => theme.text}; fill: ${({ theme }) => theme.ink2}; }
  text.hour { font-family: ${({ theme }) => theme.mono}; }
  .edge { cursor: ew-resize; fill: ${({ theme }) => theme.act}; outline: none; }
  .edge:focus-visible { stroke: ${({ theme }) => theme.ink}; stroke-width: 2; }
  .window { cursor: grab; }
`;
const Form = styled.form`
  position: absolute;
  left: 12px;
  bottom: 86px;
  z-index: 12;
  width: 320px;
  display: flex;
  flex-direction: column;
  gap: 10px;
  padding: 14px 16px;
  background: ${({ theme }) => theme.sheet};
  border: 1px solid ${({ theme }) => theme.ink2};
  border-radius: 5px;
  box-shadow: 0 8px 26px rgb(0 0 0 / 0.22);
`;

/** A day as a low profile of what arrived, with the window on it. */
export function TimeStrip({ cluster, typing, setTyping }: { cluster: string; typing: boolean; setTyping: (on: boolean) => void }) {
  const theme = useTheme();
  const { now, rhythm, setRhythm, tick } = useNow();
  const [, setView] = useView();
  const window = useWindow();
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(900);
  useEffect(() => {
    const watch = new ResizeObserver(() => setWidth(box.current?.clientWidth ?? 900));
    watch.observe(box.current!);
    return () => watch.disconnect();
  }, []);
  // The strip moves in whole slots, so that its bars keep their place while the clock runs.
  const end = Math.max(Math.ceil(now / (slotMinutes * 60_000)) * slotMinutes * 60_000, 0);
  const begin = end - span;
  const timeline = useQuery({
    queryKey: ["timeline", cluster, begin], enabled: !!cluster, refetchInterval: 30_000, placeholderData: keepPreviousData,
    queryFn: () => got(api.GET("/api/timeline", { params: { query: { cluster, from: new Date(begin).toISOString(), slotMinutes, slots } } })),
  });
  const x = (at: number) => ((at - begin) / span) * width;
  const at = (pixel: number) => begin + (pixel / width) * span;
  const [drag, setDrag] = useState<{ what: "from" | "to" | "both" | "new"; start: number; from: number; to: number } | null>(null);
  const [draft, setDraft] = useState<{ from: number; to: number } | null>(null);
  const shown = draft ?? window;

  const apply = (from: number, to: number) => {
    const span = Math.max(10_000, to - from);
    if (to > now - 5_000) setView({ last: span / 1000, from: null, to: null });
    else setView({ last: null, from: to - span, to });
  };
  const pointer = (event: React.PointerEvent) => at(event.clientX - box.current!.getBoundingClientRect().left);
  const down = (what: "from" | "to" | "both" | "new") => (event: React.PointerEvent) => {
    event.stopPropagation();
    box.current!.setPointerCapture(event.pointerId);
    setDrag({ what, start: pointer(event), from: window.from, to: window.to });
  };
  const move = (event: React.PointerEvent) => {
    if (!drag) return;
    const here = pointer(event);
    const by = here - drag.start;
    if (drag.what === "from") setDraft({ from: Math.min(drag.from + by, drag.to - 60_000), to: drag.to });
    else if (drag.what === "to") setDraft({ from: drag.from, to: Math.min(now, Math.max(drag.to + by, drag.from + 60_000)) });
    else if (drag.what === "both") setDraft({ from: drag.from + Math.min(by, now - drag.to), to: drag.to + Math.min(by, now - drag.to) });
    else setDraft({ from: Math.min(here, drag.start), to: Math.min(now, Math.max(here, drag.start)) });
  };
  const up = () => {
    if (draft && draft.to - draft.from > 30_000) apply(draft.from, draft.to);
    setDrag(null);
    setDraft(null);
  };
  const keys = (edge: "from" | "to") => (event: React.KeyboardEvent) => {
    const step = (event.key === "ArrowLeft" ? -1 : event.key === "ArrowRight" ? 1 : 0) * (event.shiftKey ? 600_000 : 60_000);
    if (!step) return;
    event.preventDefault();
    apply(edge === "from" ? Math.min(window.from + step, window.to - 60_000) : window.from, edge === "to" ? Math.max(window.to + step, window.from + 60_000) : window.to);
  };

  const samples = timeline.data?.samples ?? [];
  const most = Math.max(1, ...samples);
  const offset = timeline.data ? (Date.parse(timeline.data.from) - begin) / span : 0;
  const marks = gather((timeline.data?.marks ?? []).map((mark) => ({ ...mark, at: Date.parse(mark.at) })), x, 120, width);
  const sameDay = day(shown.from) === day(shown.to);
  return (
    <Bar aria-label="Time strip">
      <Left>
        <b>{sameDay ? `${day(shown.from)}, ${clock(shown.from)}–${clock(shown.to)}` : `${day(shown.from).slice(4)} ${clock(shown.from)}–${day(shown.to).slice(4)} ${clock(shown.to)}`}</b>
        <div className="line">
          <Button bare style={{ paddingLeft: 0 }} onPress={() => setTyping(!typing)} aria-expanded={typing}>{length((shown.to - shown.from) / 1000)}</Button>
          <Button bare aria-label="Earlier" onPress={() => { const moved = shift(window, -0.5, now); apply(moved.from, moved.to); }}>‹</Button>
          <Button bare aria-label="Later" isDisabled={window.follows} onPress={() => { const moved = shift(window, 0.5, now); apply(moved.from, moved.to); }}>›</Button>
        </div>
        <div className="line">
          {window.follows ? <span><b style={{ display: "inline", color: theme.act }}>now</b> every {length(rhythm)}</span>
            : <Button bare style={{ paddingLeft: 0 }} onPress={() => { tick(); setView({ last: (window.to - window.from) / 1000, from: null, to: null }); }}>Back to now</Button>}
        </div>
      </Left>
      <Draw ref={box} onPointerMove={move} onPointerUp={up} onPointerDown={down("new")}>
        <svg aria-hidden={false} role="group" aria-label="The last 24 hours">
          {samples.map((count, i) => {
            const height = (count / most) * 22;
            const left = (i / slots + offset) * width;
            const late = (timeline.data?.backFilled[i] ?? 0) > count / 2;
            return count > 0 && left > -8 ? (
              <rect key={i} x={left + 0.5} y={52 - height} width={Math.max(1, width / slots - 1.2)} height={height} fill={late ? "none" : theme.ink2} stroke={late ? theme.ink2 : "none"} strokeWidth={0.7} opacity={late ? 0.6 : 0.45}>
                <title>{clock(begin + (i / slots) * span)}: {count} samples{late ? ", back-filled" : ""}</title>
              </rect>
            ) : null;
          })}
          <line x1={0} x2={width} y1={52.5} y2={52.5} stroke={theme.rule} />
          {hours(begin, end).map((hour) => <text key={hour} className="hour" x={x(hour)} y={69} textAnchor="middle">{clock(hour)}</text>)}
          <rect className="window" x={Math.max(0, x(shown.from))} y={16} width={Math.max(3, x(shown.to) - Math.max(0, x(shown.from)))} height={37} fill={theme.act} fillOpacity={0.16} stroke={theme.act} onPointerDown={down("both")} />
          {marks.map((mark) => {
            const left = x(mark.at);
            const end = left > width - 110;
            return (
              <g key={mark.at + mark.text}>
                <title>{mark.all.map((one) => `${exact(one.at)} ${one.text}`).join("\n")}</title>
                <line x1={left} x2={left} y1={4} y2={52} stroke={mark.kind === "rollout" ? theme.ink2 : theme.critical} strokeDasharray="2 2" />
                <text x={end ? left - 4 : left + 4} y={12} textAnchor={end ? "end" : "start"} style={{ fill: mark.kind === "rollout" ? theme.ink2 : theme.critical }}>{short(mark.text)}{mark.count > 1 ? ` +${mark.count - 1}` : ""}</text>
              </g>
            );
          })}
          {(["from", "to"] as const).map((edge) => (
            <rect key={edge} className="edge" x={Math.max(0, Math.min(width, x(shown[edge]))) - 3} y={26} width={6} height={17} rx={2} tabIndex={0} role="slider"
              aria-label={edge === "from" ? "Window begins" : "Window ends"} aria-valuemin={begin} aria-valuemax={end} aria-valuenow={Math.round(shown[edge])} aria-valuetext={exact(shown[edge])}
              onPointerDown={down(edge)} onKeyDown={keys(edge)} />
          ))}
        </svg>
      </Draw>
      {typing && <TypedWindow close={() => setTyping(false)} apply={apply} now={now} rhythm={rhythm} setRhythm={setRhythm} window={window} />}
    </Bar>
  );
}

const short = (text: string) => (text.length > 17 ? text.slice(0, 16) + "…" : text);

function TypedWindow({ close, apply, now, window, rhythm, setRhythm }: {
  close: () => void; apply: (from: number, to: number) => void; now: number; window: { from: number; to: number; follows: boolean }; rhythm: number; setRhythm: (seconds: number) => void;
}) {
  const [text, setText] = useState(length((window.to - window.from) / 1000).replaceAll(" min", "m").replaceAll(" h", "h").replaceAll(" d", "d").replaceAll(" s", "s"));
  const [until, setUntil] = useState(window.follows ? "now" : `${new Date(window.to - new Date().getTimezoneOffset() * 60_000).toISOString().slice(0, 16).replace("T", " ")}`);
  const seconds = parseLength(text);
  const end = until.trim() === "now" || until.trim() === "" ? Date.now() : parseTime(until, now);
  return (
    <Form aria-label="Choose the window" onSubmit={(event) => { event.preventDefault(); if (seconds && end) { apply(end - seconds * 1000, end); close(); } }} onKeyDown={(event) => { if (event.key === "Escape") close(); }}>
      <TextInput label="Length" value={text} onChange={setText} autoFocus help="For example 30m, 2h 30m, 1d" mistake={seconds ? undefined : "This is no length of time."} />
      <TextInput label="Until" value={until} onChange={setUntil} help="now, 06:40, or 2026-11-24 06:40" mistake={end ? undefined : "This is no time."} />
      <Choose label="Now moves" value={String(rhythm)} onChange={(key) => setRhythm(Number(key))} options={[{ id: "15", text: "as data arrives, 15 s" }, { id: "20", text: "every 20 s" }, { id: "60", text: "every minute" }, { id: "300", text: "every 5 minutes" }]} />
      <div style={{ display: "flex", gap: 8, justifyContent: "flex-end" }}>
        <Button onPress={close}>Close</Button>
        <Button main type="submit" isDisabled={!seconds || !end}>Show</Button>
      </div>
    </Form>
  );
}
