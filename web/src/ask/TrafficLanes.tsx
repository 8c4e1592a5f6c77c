import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import styled, { useTheme } from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Mark, Quiet, Row } from "../parts/basics";
import { withUnit } from "../parts/format";
import { Drawer } from "../parts/overlays";
import { edgesOf, layOut, outside, spoken, type Edge } from "./traffic";

const Whole = styled.div`display: flex; gap: 12px; flex: 1; min-height: 420px; margin-top: 8px;`;
const Lanes = styled(Card)`
  flex: 1;
  min-width: 0;
  overflow: auto;
  svg { display: block; }
  text { font: 12px ${({ theme }) => theme.text}; fill: ${({ theme }) => theme.ink}; }
  text.lane { font-weight: 700; fill: ${({ theme }) => theme.ink2}; }
  text.box { text-anchor: middle; dominant-baseline: central; }
  text.words { fill: ${({ theme }) => theme.critical}; paint-order: stroke; stroke: ${({ theme }) => theme.sheet}; stroke-width: 4px; }
  path { fill: none; cursor: pointer; }
  path:focus { outline: none; }
  path:focus-visible { stroke: ${({ theme }) => theme.act}; }
`;

/** Who talks to whom, one lane a namespace; a chosen ribbon tells its story at the side. */
export function TrafficLanes({ answer, asked, cluster, window, addresses, height }: { answer: Schemas["AskAnswer"]; asked: string; cluster: string; window: { from: number; to: number }; addresses: boolean; /** Pixels; without it they take what there is. */ height?: number }) {
  const theme = useTheme();
  const box = useRef<HTMLElement>(null);
  const [size, setSize] = useState({ width: 740, height: 480 });
  const [chosen, setChosen] = useState<string | null>(null);
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => setSize({ width: Math.max(520, entry!.contentRect.width), height: entry!.contentRect.height }));
    if (box.current) watch.observe(box.current);
    return () => watch.disconnect();
  }, []);
  const edges = useMemo(() => edgesOf(answer.columns ?? [], (answer.rows ?? []) as unknown[][]), [answer]);
  const layout = useMemo(() => layOut(edges, size.width, Math.max(height ? height - 6 : 400, size.height - 4)), [edges, size, height]);
  const key = (edge: Edge) => `${edge.sourceNamespace}/${edge.source} to ${edge.destinationNamespace}/${edge.destination}`;
  const open = edges.find((edge) => key(edge) === chosen) ?? null;
  const wrong = (edge: Edge) => edge.dropped > 0 ? `${spoken(edge.dropped)} dropped${edge.reason ? `, ${edge.reason}` : ""}` : edge.errors / Math.max(edge.rate, 1e-9) > 0.02 ? `${spoken(edge.errors)} failing` : "";
  return (
    <Whole style={height ? { height, minHeight: 0, margin: 0 } : undefined}>
      <Lanes ref={box}>
        <svg width={size.width} height={layout.height} role="group" aria-label="Traffic lanes">
          {layout.lanes.map((lane, i) => <g key={lane.namespace}><rect x={0} y={lane.top} width={size.width} height={lane.height} fill={i % 2 ? theme.ground : "none"} opacity={0.6} /><text className="lane" x={12} y={lane.top + 16}>{lane.namespace}</text></g>)}
          {layout.ribbons.map((ribbon) => {
            const [words, on] = [wrong(ribbon.edge), key(ribbon.edge) === chosen];
            return (
              <path key={key(ribbon.edge)} d={ribbon.path} stroke={words ? theme.critical : on ? theme.act : theme.flows} strokeWidth={ribbon.width} opacity={on ? 1 : words ? 0.75 : 0.42} strokeDasharray={ribbon.edge.dropped > 0 ? "7 5" : undefined}
                tabIndex={0} role="button" aria-pressed={on} aria-label={`${key(ribbon.edge)}, ${spoken(ribbon.edge.rate)}${words ? `, ${words}` : ""}`}
                onClick={() => setChosen(key(ribbon.edge))} onKeyDown={(event) => { if (event.key === "Enter" || event.key === " ") { event.preventDefault(); setChosen(key(ribbon.edge)); } }}>
                <title>{`${ribbon.edge.source} to ${ribbon.edge.destination}: ${spoken(ribbon.edge.rate)}`}</title>
              </path>
            );
          })}
          {layout.nodes.map((node) => (
            <g key={node.id}>
              <rect x={node.x - node.width / 2} y={node.y - 12} width={node.width} height={24} rx={4} fill={theme.sheet} stroke={open && (node.name === open.source || node.name === open.destination) ? theme.act : theme.ink2} />
              <text className="box" x={node.x} y={node.y}>{node.name.length > 24 ? `${node.name.slice(0, 22)}…` : node.name}</text>
            </g>
          ))}
          {layout.ribbons.filter((ribbon) => wrong(ribbon.edge)).map((ribbon) => <text className="words" key={key(ribbon.edge)} x={Math.min(ribbon.middle.x, size.width - 190)} y={ribbon.middle.y - 6}>◆ {wrong(ribbon.edge)}</text>)}
        </svg>
      </Lanes>
      {open && <Story edge={open} asked={asked} cluster={cluster} window={window} addresses={addresses} onClose={() => setChosen(null)} />}
    </Whole>
  );
}

function Story({ edge, asked, cluster, window, addresses, onClose }: { edge: Edge; asked: string; cluster: string; window: { from: number; to: number }; addresses: boolean; onClose: () => void }) {
  const navigate = useNavigate();
  const ofFlows = asked.trimStart().startsWith("flows");
  const flows = `flows\n  -> where ${addresses ? "source.address" : "source"} = "${edge.source}" and ${addresses ? "destination.address" : "destination"} = "${edge.destination}"`;
  const detail = useQuery({
    queryKey: ["story", flows, cluster, window.from, window.to],
    queryFn: ({ signal }) => got(api.POST("/api/ask", { signal, body: { text: flows, from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString(), cluster, page: { size: 2000 } } })),
  });
  const at = (name: string) => (detail.data?.columns ?? []).findIndex((column) => column.name === name);
  const values = (name: string) => [...new Set(((detail.data?.rows ?? []) as unknown[][]).map((row) => row[at(name)]).filter((value) => value !== null && value !== undefined).map(String))];
  const some = (list: string[]) => (list.length === 0 ? "–" : list.length > 4 ? `${list.slice(0, 3).join(", ")} and ${list.length - 3} more` : list.join(", "));
  return (
    <Drawer title={`${edge.source} to ${edge.destination}`} onClose={onClose}>
      {edge.dropped > 0 && <p><Mark level="critical" /> {spoken(edge.dropped)} dropped{edge.reason ? `, ${edge.reason}` : ""}</p>}
      <dl>
        <dt>from</dt><dd>{edge.sourceNamespace || outside}/{edge.source}</dd>
        <dt>to</dt><dd>{edge.destinationNamespace || outside}/{edge.destination}</dd>
        <dt>{ofFlows ? "flows" : "calls"}</dt><dd>{spoken(edge.rate)}</dd>
        <dt>failing</dt><dd>{edge.errors > 0 ? spoken(edge.errors) : "none"}</dd>
        {edge.p95 !== null && <><dt>95 % within</dt><dd>{withUnit(edge.p95, "s")}</dd></>}
        {edge.bytes !== null && <><dt>bytes</dt><dd>{withUnit(edge.bytes, "By")}</dd></>}
      </dl>
      <h3>On the wire</h3>
      {detail.error ? <Quiet>Flows of this pair could not be read.</Quiet> : detail.data && (detail.data.rows ?? []).length === 0 ? <Quiet>No flows between these two in this window; they are known from spans alone.</Quiet> : (
        <dl>
          <dt>addresses</dt><dd>{some(values("source.address"))}</dd>
          <dt>to</dt><dd>{some(values("destination.address"))}</dd>
          <dt>port</dt><dd>{some(values("destination.port"))}</dd>
          <dt>protocol</dt><dd>{some([...values("protocol"), ...values("family")])}</dd>
          <dt>flags</dt><dd>{some(values("flags"))}</dd>
          <dt>requests</dt><dd>{some(values("request"))}</dd>
        </dl>
      )}
      <Row $gap={8} $wrap style={{ marginTop: 14 }}>
        <Button onPress={() => navigate({ pathname: "/ask", search: new URLSearchParams({ cluster, q: flows }).toString() })}>Its flows</Button>
        {!addresses && edge.destinationNamespace && <Button onPress={() => navigate({ pathname: "/ask", search: new URLSearchParams({ cluster, q: `spans\n  -> where service = "${edge.destination}" and kind = "server"\n  -> traces` }).toString() })}>Its traces</Button>}
      </Row>
    </Drawer>
  );
}
