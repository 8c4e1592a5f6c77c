import { useEffect, useMemo, useRef, useState } from "react";
import styled, { useTheme } from "styled-components";
import { mix, type AnswerSeries } from "../parts/chartData";
import { digits, scaleFor } from "../parts/format";
import { exact } from "../parts/time";
import { darkness, heatOf } from "./heat";

const Frame = styled.div`position: relative; padding: 0 8px 0 62px; canvas { display: block; width: 100%; } output { position: absolute; left: 66px; top: 4px; pointer-events: none; font-size: 12px; background: ${({ theme }) => theme.sheet}; padding: 0 6px; border: 1px solid ${({ theme }) => theme.rule}; }`;

/** Each series a band over time, the stronger the greater; the band under the pointer says its value. */
export function HeatBands({ series, names, unit, height, label }: { series: AnswerSeries[]; names: string[]; unit: string; height: number; label: string }) {
  const theme = useTheme();
  const canvas = useRef<HTMLCanvasElement>(null);
  const [at, setAt] = useState<{ band: number; slot: number } | null>(null);
  const { heat, kept } = useMemo(() => heatOf(series), [series]);
  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    if (!context || !canvas.current) return;
    const { width, height: high } = canvas.current;
    context.clearRect(0, 0, width, high);
    const [across, down] = [width / Math.max(1, heat.times.length), high / Math.max(1, heat.bands.length)];
    heat.bands.forEach((band, i) => band.forEach((value, j) => {
      if (value === null) return;
      context.fillStyle = mix(theme.metrics, theme.sheet, darkness(value, heat));
      context.fillRect(Math.floor(j * across), Math.floor(i * down), Math.ceil(across), Math.max(1, Math.floor(down) - (down > 4 ? 1 : 0)));
    }));
  }, [heat, theme]);
  const scale = scaleFor(unit, heat.most);
  const value = at && heat.bands[at.band]?.[at.slot];
  return (
    <Frame onMouseLeave={() => setAt(null)} onMouseMove={(event) => {
      const box = canvas.current!.getBoundingClientRect();
      const place = (share: number, count: number) => Math.max(0, Math.min(count - 1, Math.floor(share * count)));
      setAt({ band: place((event.clientY - box.top) / box.height, heat.bands.length), slot: place((event.clientX - box.left) / box.width, heat.times.length) });
    }}>
      <canvas ref={canvas} width={1200} height={height * 2} style={{ height }} role="img" aria-label={`${label}: ${heat.bands.length} bands, from ${digits(heat.least / scale.divisor)} to ${digits(heat.most / scale.divisor)} ${scale.unit}`} />
      {at && value !== undefined && <output>{names[kept[at.band]!]}: {value === null ? "no value" : `${digits(value / scale.divisor)} ${scale.unit}`}, {exact(heat.times[at.slot]!).slice(-8)}</output>}
    </Frame>
  );
}
