import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import styled, { useTheme } from "styled-components";
import { api, got } from "../api/client";
import { Button, Card, Empty, Heading, Mark, Mono, Quiet, Title, Trouble, Waiting } from "../parts/basics";
import { withUnit } from "../parts/format";
import { Drawer } from "../parts/overlays";
import { clockSeconds, exact } from "../parts/time";
import { criticalPath, failures, layOut, whereTimeWent, type PlacedSpan, type TraceSpan } from "./trace";

const left = 150;
const [barHeight, rowHeight, lanePad] = [13, 31, 8];

const Whole = styled.div`display: flex; gap: 12px; min-height: 200px; flex: 0 0 auto;`;
const Lanes = styled(Card)`
  flex: 1;
  min-width: 0;
  overflow: auto;
  svg { display: block; }
  text { font: 12px ${({ theme }) => theme.text}; fill: ${({ theme }) => theme.ink}; }
  text.quiet, text.tick { fill: ${({ theme }) => theme.ink2}; }
  text.lane { font-weight: 700; }
  text.tick { font-family: ${({ theme }) => theme.mono}; font-size: 11px; }
  g.span { cursor: pointer; }
  g.span:focus-visible { outline: none; }
  g.span:focus-visible rect { stroke: ${({ theme }) => theme.act}; stroke-width: 2; }
`;
const Two = styled.div`
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 12px;
  margin-top: 12px;
  > * { padding: 10px 14px; min-width: 0; }
  .line { display: grid; grid-template-columns: 1fr 90px 60px; gap: 8px; padding: 4px 0; border-top: 1px solid ${({ theme }) => theme.rule}; }
  .line:first-of-type { margin-top: 6px; }
  .line > * + * { text-align: right; }
  pre { margin: 8px 0 0; font-size: 12px; white-space: pre-wrap; overflow-wrap: anywhere; color: ${({ theme }) => theme.ink2}; }
  @media (max-width: 900px) { grid-template-columns: 1fr; }
`;

/** One trace in lanes, one a workload, with the path that set its time and its failures. */
export function TraceView({ trace, cluster, onLeave }: { trace: string; cluster: string; onLeave: () => void }) {
  const navigate = useNavigate();
  const theme = useTheme();
  const [open, setOpen] = useState<string | null>(null);
  const view = useQuery({ queryKey: ["trace", trace, cluster], retry: false, queryFn: () => got(api.GET("/api/traces/{trace}", { params: { path: { trace }, query: { cluster } } })) });
  if (view.isPending) return <Waiting what="Fetching the trace" />;
  if (view.error) return <><Title actions={<Button onPress={onLeave}>Back</Button>}>One trace</Title><Trouble error={view.error} /></>;
  const spans = view.data.spans;
  if (spans.length === 0) return <Card><Empty title="No spans" /></Card>;
  const layout = layOut(spans);
  const ids = new Set(spans.map((span) => span.span));
  const root = layout.spans.find((placed) => !placed.span.parent || !ids.has(placed.span.parent))!.span;
  const failed = failures(spans);
  const went = whereTimeWent(spans);
  const chosen = spans.find((span) => span.span === open) ?? null;
  const first = failed.find((span) => span.exception) ?? failed[0];
  const lot = spans.map((span) => span.attributes["lot"]).find(Boolean);
  return (
    <>
      <Title about={<span title={exact(layout.begin)}>{clockSeconds(layout.begin)}, {spans.length} spans in {layout.lanes.length} workloads{failed.length > 0 ? `, ${failed.length} failed` : ""}</span>}
        actions={<>
          <Button onPress={onLeave}>Back</Button>
          <Button main onPress={() => navigate({ search: new URLSearchParams({ cluster, from: String(Math.floor(layout.begin - 60_000)), to: String(Math.ceil(layout.begin + layout.length + 60_000)), q: `logs\n  -> where trace = "${trace}"` }).toString() })}>Log lines of this call</Button>
        </>}>{root.name}{lot ? `, ${lot},` : ""} took {withUnit(layout.length / 1000, "s")}</Title>
      <Whole>
        <Lanes><Drawing layout={layout} spans={spans} chosen={open} onOpen={setOpen} theme={theme} /></Lanes>
        {chosen && <SpanDetail span={chosen} onClose={() => setOpen(null)} />}
      </Whole>
      <Two>
        <Card>
          <Heading>Where the time went</Heading>
          {went.slice(0, 6).map((part) => <div className="line" key={part.words}><span>{part.words}</span><Mono>{withUnit(part.seconds, "s")}</Mono><Mono>{Math.round(part.share * 100)} %</Mono></div>)}
        </Card>
        <Card>
          {first ? <>
            <Heading><Mark level="critical" title="failed" /> {first.workload}, {first.name}: {first.message ?? "failed"}</Heading>
            <pre tabIndex={0}>{first.exception?.stack ?? first.exception?.message ?? "The span notes no exception."}</pre>
          </> : <><Heading>Nothing failed</Heading><p><Quiet>No span of this trace ended with an error.</Quiet></p></>}
        </Card>
      </Two>
    </>
  );
}

function Drawing({ layout, spans, chosen, onOpen, theme }: { layout: ReturnType<typeof layOut>; spans: TraceSpan[]; chosen: string | null; onOpen: (id: string) => void; theme: ReturnType<typeof useTheme> }) {
  const tops: number[] = [];
  let height = 0;
  for (const lane of layout.lanes) { tops.push(height); height += lane.rows * rowHeight + lanePad; }
  // The drawing is laid out for a width of its own and scaled by the browser, so that text stays text.
  const [width, right] = [960, 30];
  const x = (ms: number) => left + (ms / layout.length) * (width - left - right);
  const y = (placed: PlacedSpan) => tops[placed.lane]! + lanePad / 2 + placed.row * rowHeight + 4;
  const steps = [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 60_000];
  const step = steps.find((one) => layout.length / one <= 7) ?? 600_000;
  const ticks = Array.from({ length: Math.floor(layout.length / step) + 1 }, (_, i) => i * step);
  const bySpan = new Map(layout.spans.map((placed) => [placed.span.span, placed]));
  const path = criticalPath(spans);
  // A call without a bar of its own is part of the caller's.
  const placeOf = (span: TraceSpan): PlacedSpan => bySpan.get(span.span) ?? bySpan.get(span.parent ?? "") ?? layout.spans[0]!;
  const stretches = path.map((part) => ({ from: x(part.from), to: x(part.to), at: y(placeOf(part.span)) - 2.5 }));
  const line = stretches.map((part) => `M${part.from} ${part.at}H${part.to}`).join("");
  const joints = stretches.slice(1).map((part, i) => `M${stretches[i]!.to} ${stretches[i]!.at}L${part.from} ${part.at}`).join("");
  return (
    <svg width="100%" viewBox={`0 0 ${width} ${height + 24}`} role="group" aria-label="Spans of the trace" style={{ minWidth: 720 }}>
      {layout.lanes.map((lane, i) => <g key={lane.workload}><rect x={0} y={tops[i]} width={width} height={lane.rows * rowHeight + lanePad} fill={i % 2 ? theme.ground : "none"} opacity={0.6} /><text className="lane" x={14} y={tops[i]! + 22}>{lane.workload.length > 21 ? `${lane.workload.slice(0, 20)}…` : lane.workload}</text></g>)}
      {ticks.map((tick) => <g key={tick}><line x1={x(tick)} x2={x(tick)} y1={0} y2={height} stroke={theme.rule} /><text className="tick" x={x(tick)} y={height + 16} textAnchor="middle">{tick === 0 ? "0" : withUnit(tick / 1000, "s")}</text></g>)}
      {layout.spans.map((placed) => {
        const { span } = placed;
        const [from, to] = [x(placed.from), Math.max(x(placed.to), x(placed.from) + 2)];
        const says = `${span.name}, ${withUnit(span.duration, "s")}${span.status === "error" ? ", failed" : ""}`;
        // A label stands under its bar where there is room up to the next bar of its row.
        const next = layout.spans.filter((other) => other.lane === placed.lane && other.row === placed.row && other.from > placed.from).map((other) => x(other.from));
        const room = Math.min(width - 6, ...next) - from;
        const fits = says.length * 6.1 < room;
        const short = says.slice(0, Math.max(0, Math.floor(room / 6.3) - 1));
        return (
          <g className="span" key={span.span} tabIndex={0} role="button" aria-label={`${span.workload}: ${says}`} onClick={() => onOpen(span.span)} onKeyDown={(event) => { if (event.key === "Enter" || event.key === " ") { event.preventDefault(); onOpen(span.span); } }}>
            <rect x={from} y={y(placed)} width={to - from} height={barHeight} rx={2} fill={span.status === "error" ? theme.critical : theme.traces} opacity={span.foreign ? 0.3 : span.kind === "client" ? 0.5 : 0.9} stroke={chosen === span.span ? theme.ink : "none"} strokeWidth={2} />
            {(fits || short.length > 7) && <text className="quiet" x={from + 1} y={y(placed) + barHeight + 11}>{fits ? says : `${short}…`}</text>}
            <title>{says}</title>
          </g>
        );
      })}
      <path d={joints} fill="none" stroke={theme.ink} strokeWidth={1} opacity={0.55} pointerEvents="none" />
      <path d={line} fill="none" stroke={theme.ink} strokeWidth={2.5} strokeLinejoin="round" pointerEvents="none"><title>the path that set the time</title></path>
    </svg>
  );
}

function SpanDetail({ span, onClose }: { span: TraceSpan; onClose: () => void }) {
  return (
    <Drawer title={`${span.workload}: ${span.name}`} onClose={onClose}>
      {span.message && <p><Mark level="critical" title="failed" /> {span.message}</p>}
      <dl>
        <dt>took</dt><dd>{withUnit(span.duration, "s")}</dd>
        <dt>began</dt><dd>{exact(span.start)}</dd>
        <dt>kind</dt><dd>{span.kind || "–"}</dd>
        {span.namespace && <><dt>namespace</dt><dd>{span.namespace}</dd></>}
        {span.pod && <><dt>pod</dt><dd>{span.pod}</dd></>}
        {span.weight !== 1 && <><dt>stands for</dt><dd>{span.weight.toFixed(1)} spans, by sampling</dd></>}
        <dt>span</dt><dd><Mono>{span.span}</Mono></dd>
      </dl>
      {Object.keys(span.attributes).length > 0 && <><h3>Attributes</h3><dl>{Object.entries(span.attributes as Record<string, string>).map(([name, value]) => [<dt key={name}>{name}</dt>, <dd key={name + "v"}>{value}</dd>])}</dl></>}
      {span.exception?.stack && <><h3>{span.exception.type}</h3><pre style={{ whiteSpace: "pre-wrap", fontSize: 12 }}>{span.exception.stack}</pre></>}
    </Drawer>
  );
}
