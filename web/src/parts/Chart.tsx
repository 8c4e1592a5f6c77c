import { useEffect, useMemo, useRef, useState } from "react";
import styled, { useTheme } from "styled-components";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { dashes } from "../theme";
import { columns, mix, stacked, type AnswerSeries } from "./chartData";
import { digits, scaleFor } from "./format";
import { clock, clockSeconds, day } from "./time";

export interface ChartMark { at: number; text: string; kind: string }
export interface Bound { value: number; text: string; level: "warning" | "minor" | "major" | "critical" | "clear" }

const Frame = styled.div`
  position: relative;
  width: 100%;
  .u-select { background: ${({ theme }) => theme.act}; opacity: 0.18; }
  .u-cursor-x { border-right: 1px solid ${({ theme }) => theme.ink2} !important; }
  .u-cursor-y { display: none; }
`;
const Tip = styled.div`
  position: absolute;
  z-index: 3;
  pointer-events: none;
  padding: 5px 8px;
  max-width: 340px;
  background: ${({ theme }) => theme.sheet};
  border: 1px solid ${({ theme }) => theme.ink2};
  border-radius: ${({ theme }) => theme.corner};
  font: 12px/1.45 ${({ theme }) => theme.text};
  b { font-family: ${({ theme }) => theme.mono}; font-weight: 600; float: right; margin-left: 14px; }
  i { display: inline-block; width: 9px; height: 9px; border-radius: 2px; margin-right: 6px; }
`;

/** Series over one clock. Dragging across it chooses the window; all charts share one crosshair. */
export function Chart({ series, names, unit, height, window, draw = "lines", marks = [], bounds = [], shaded = [], axis = true, yAxis = true, onZoom, label, colours, greatest: most = 0 }: {
  series: AnswerSeries[]; names: string[]; unit: string; height: number; window: { from: number; to: number }; draw?: string; marks?: ChartMark[]; bounds?: Bound[];
  shaded?: { from: number; to: number }[]; axis?: boolean; yAxis?: boolean; onZoom?: (from: number, to: number) => void; label: string;
  /** Colours by meaning, one a series; without them the set that stays apart for colour-blind readers. */
  colours?: string[];
  /** The greatest value of charts that belong together, so that all are written in one unit. */
  greatest?: number;
}) {
  const theme = useTheme();
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const zoom = useRef(onZoom);
  zoom.current = onZoom;
  const [tip, setTip] = useState<{ left: number; slot: number } | null>(null);
  const scale = useMemo(() => {
    let greatest = most;
    for (const one of series) for (const [, value] of one.points) if (value != null) greatest = Math.max(greatest, Math.abs(value));
    return scaleFor(unit, greatest);
  }, [series, unit, most]);
  // Drawn in the unit that is written, so that the axis falls on round figures of it.
  const data = useMemo(() => columns(series, scale.divisor), [series, scale]);
  const stack = draw === "stack" || draw === "bars";
  const plotted = useMemo(() => (stack ? stacked(data) : data), [data, stack]);
  // Dashes tell few lines apart; of many they only cost time.
  const many = series.length > 12;
  const colour = (i: number) => colours?.[i] ?? theme.series[i % theme.series.length]!;

  useEffect(() => {
    const element = box.current!;
    const width = () => Math.max(80, element.clientWidth);
    const ink = theme.ink2;
    const options: uPlot.Options = {
      width: width(), height, legend: { show: false }, padding: [8, 8, axis ? 0 : 6, yAxis ? 0 : 0],
      cursor: { sync: { key: "skevin", setSeries: false }, drag: { x: true, y: false, setScale: false }, points: { size: 6 } },
      scales: { x: { time: true, range: () => [window.from / 1000, window.to / 1000] }, y: { range: (_, low, high) => range(low, high, bounds.map((bound) => bound.value / scale.divisor)) } },
      axes: [
        { show: axis, stroke: ink, font: `11px ${theme.mono}`, grid: { show: false }, ticks: { show: false }, gap: 4, size: 24, space: 90, values: (_, ticks) => ticks.map((tick, i) => (i > 0 && sameDay(tick, ticks[i - 1]!) ? clock(tick * 1000) : ticks.length > 1 && sameDay(ticks[0]!, ticks[ticks.length - 1]!) ? clock(tick * 1000) : `${day(tick * 1000).slice(4)} ${clock(tick * 1000)}`)) },
        { show: yAxis, stroke: ink, font: `11px ${theme.mono}`, grid: { stroke: theme.rule, width: 1 }, ticks: { show: false }, gap: 6, size: 62, space: height < 64 ? 18 : 34, values: (_, ticks) => ticks.map((tick) => trim(tick)) },
      ],
      series: [{}, ...series.map((_, i): uPlot.Series => ({
        stroke: colour(stack ? series.length - 1 - i : i), width: stack || many ? 1 : 1.6, dash: colours || many ? undefined : dashes[i % dashes.length], points: { show: false }, spanGaps: false,
        ...(stack ? { fill: mix(colour(series.length - 1 - i), theme.sheet, 0.55) } : {}),
        ...(draw === "bars" ? { paths: uPlot.paths.bars!({ size: [0.8, 40] }) } : {}),
        ...(draw === "steps" ? { paths: uPlot.paths.stepped!({ align: 1 }) } : {}),
        ...(draw === "area" && i === 0 ? { fill: theme.series[0] + "66" } : {}),
      }))],
      hooks: {
        setSelect: [(u) => {
          if (u.select.width < 6) return;
          const [from, to] = [u.posToVal(u.select.left, "x") * 1000, u.posToVal(u.select.left + u.select.width, "x") * 1000];
          u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
          zoom.current?.(from, to);
        }],
        setCursor: [(u) => setTip(u.cursor.idx === null || u.cursor.idx === undefined || (u.cursor.left ?? -1) < 0 || !u.cursor.event ? null : { left: u.cursor.left! + u.bbox.left / devicePixelRatio, slot: u.cursor.idx })],
        drawClear: [(u) => {
          u.ctx.save();
          u.ctx.fillStyle = theme.major + "33";
          for (const stretch of shaded) {
            const [a, b] = [u.valToPos(stretch.from / 1000, "x", true), u.valToPos(stretch.to / 1000, "x", true)];
            u.ctx.fillRect(a, u.bbox.top, Math.max(3, b - a), u.bbox.height);
          }
          u.ctx.restore();
        }],
        draw: [(u) => {
          const { ctx } = u;
          ctx.save();
          ctx.setLineDash([3 * devicePixelRatio, 3 * devicePixelRatio]);
          ctx.lineWidth = devicePixelRatio;
          for (const mark of marks) {
            const x = u.valToPos(mark.at / 1000, "x", true);
            if (x < u.bbox.left || x > u.bbox.left + u.bbox.width) continue;
            ctx.strokeStyle = mark.kind === "restart" || mark.kind === "alarm" ? theme.critical : theme.ink2;
            ctx.beginPath(); ctx.moveTo(x, u.bbox.top); ctx.lineTo(x, u.bbox.top + u.bbox.height); ctx.stroke();
          }
          ctx.font = `${11 * devicePixelRatio}px ${theme.text}`;
          ctx.textAlign = "right";
          for (const bound of bounds) {
            const y = u.valToPos(bound.value / scale.divisor, "y", true);
            ctx.strokeStyle = ctx.fillStyle = theme[bound.level];
            ctx.beginPath(); ctx.moveTo(u.bbox.left, y); ctx.lineTo(u.bbox.left + u.bbox.width, y); ctx.stroke();
            ctx.fillText(bound.text, u.bbox.left + u.bbox.width - 4, y - 6 * devicePixelRatio);
          }
          ctx.restore();
        }],
      },
    };
    const made = new uPlot(options, plotted as uPlot.AlignedData, element);
    plot.current = made;
    const watch = new ResizeObserver(() => made.setSize({ width: width(), height }));
    watch.observe(element);
    return () => { watch.disconnect(); made.destroy(); plot.current = null; };
  }, [plotted, height, theme, scale, draw, axis, yAxis, window.from, window.to, JSON.stringify(marks), JSON.stringify(bounds), JSON.stringify(shaded), colours?.join()]);

  const times = data[0];
  const order = tip ? series.map((_, i) => i).filter((i) => data[i + 1]?.[tip.slot] != null).sort((a, b) => (data[b + 1]![tip.slot] as number) - (data[a + 1]![tip.slot] as number)).slice(0, 10) : [];
  return (
    <Frame ref={box} role="img" aria-label={label} style={{ height }} onMouseLeave={() => setTip(null)}>
      {tip && order.length > 0 && (
        <Tip style={{ top: 6, ...(tip.left > (box.current?.clientWidth ?? 0) / 2 ? { right: (box.current?.clientWidth ?? 0) - tip.left + 12 } : { left: tip.left + 12 }) }}>
          <div>{clockSeconds(times[tip.slot]! * 1000)}</div>
          {order.map((i) => <div key={i}><i style={{ background: colour(i) }} />{names[i]}<b>{digits(data[i + 1]![tip.slot] as number)} {scale.unit}</b></div>)}
        </Tip>
      )}
    </Frame>
  );
}

const trim = (value: number) => (Math.abs(value) >= 1000 ? Math.round(value).toString() : Number(value.toPrecision(4)).toString());
const sameDay = (a: number, b: number) => day(a * 1000) === day(b * 1000);

/** From zero where values are not negative, with a little room above and room for the bounds. */
function range(low: number | null, high: number | null, bounds: number[]): [number, number] {
  const top = Math.max(high ?? 0, ...bounds);
  const bottom = Math.min(low ?? 0, 0);
  return top === bottom ? [bottom, bottom + 1] : [bottom, top + (top - bottom) * 0.08];
}
