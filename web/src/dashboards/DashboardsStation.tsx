import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import styled, { useTheme } from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Empty, Quiet, Title, Trouble, Waiting } from "../parts/basics";
import { Chart, type ChartMark } from "../parts/Chart";
import { figures, seriesNames } from "../parts/chartData";
import { Choose } from "../parts/fields";
import { digits, scaleFor } from "../parts/format";
import { clock, ticks } from "../parts/time";
import { useCluster } from "../shell/Shell";
import { useView, useWindow } from "../shell/view";

const Sheet = styled(Card)`flex: none;`;
const ClockRow = styled.div`
  position: sticky;
  bottom: -12px;
  z-index: 2;
  display: grid;
  grid-template-columns: 158px minmax(0, 1fr) 208px;
  margin: 0 1px;
  background: ${({ theme }) => theme.sheet};
  border-top: 1px solid ${({ theme }) => theme.rule};
  color: ${({ theme }) => theme.ink2};
  > span { padding: 4px 12px; white-space: nowrap; font-size: 12px; }
  > span:last-child { display: grid; grid-template-columns: 1fr 50px 50px; gap: 6px; text-align: right; font-size: 12px; }
  svg { display: block; }
  text { font: 11px ${({ theme }) => theme.mono}; fill: ${({ theme }) => theme.ink2}; }
`;
const Strip = styled.div`
  display: grid;
  grid-template-columns: 158px minmax(0, 1fr) 208px;
  border-top: 1px solid ${({ theme }) => theme.rule};
  &:first-child { border-top: 0; }
  .name { padding: 10px 12px; border-right: 1px solid ${({ theme }) => theme.rule}; }
  .name b { display: block; line-height: 1.3; }
  .figures { padding: 6px 12px; border-left: 1px solid ${({ theme }) => theme.rule}; display: flex; flex-direction: column; justify-content: center; min-width: 0; }
  .figures div { display: grid; grid-template-columns: 10px minmax(0, 1fr) 50px 50px; gap: 6px; align-items: center; font-size: 12px; line-height: 1.4; }
  .figures i { width: 9px; height: 9px; border-radius: 2px; }
  .figures span { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  .figures b { font: 500 12px ${({ theme }) => theme.mono}; text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
  .figures b + b { color: ${({ theme }) => theme.ink2}; }
  @media (max-width: 700px) { grid-template-columns: 1fr; .name, .figures { border: 0; } }
`;
const About = styled.p`margin: 6px 0 0; font-size: 12px; color: ${({ theme }) => theme.ink2};`;

export function DashboardsStation() {
  const { id } = useParams();
  const cluster = useCluster();
  const [view, , search] = useView();
  const navigate = useNavigate();
  const [explain, setExplain] = useState(false);
  const sheets = useQuery({ queryKey: ["sheets"], queryFn: () => got(api.GET("/api/sheets")) });
  const chosen = id ?? sheets.data?.[0]?.id ?? "";
  const sheet = useQuery({ queryKey: ["sheet", chosen], enabled: !!chosen, queryFn: () => got(api.GET("/api/sheets/{id}", { params: { path: { id: chosen } } })) });
  const window = useWindow();
  const timeline = useQuery({
    queryKey: ["timeline", cluster, "marks", Math.round(window.from / 60_000)], enabled: !!cluster, placeholderData: keepPreviousData,
    queryFn: () => got(api.GET("/api/timeline", { params: { query: { cluster, from: new Date(window.from).toISOString(), slotMinutes: Math.max(1, Math.ceil((window.to - window.from) / 60_000)), slots: 1 } } })),
  });
  if (sheets.error || sheet.error) return <Trouble error={sheets.error ?? sheet.error} />;
  if (!cluster) return <Card><Empty title="No cluster is connected yet">Connect one under Clusters; its sheets are ready made.</Empty></Card>;
  if (!sheet.data) return <Waiting what="Fetching the sheet" />;
  const marks = (timeline.data?.marks ?? []).map((mark) => ({ at: Date.parse(mark.at), text: mark.text, kind: mark.kind }));
  return (
    <>
      <Title about={<>{view.namespace ? `namespace ${view.namespace}` : "all namespaces"} of {cluster}{window.follows ? ", following now" : ""}</>}
        actions={<>
          <Choose label="sheet" value={chosen} onChange={(key) => navigate({ pathname: `/dashboards/${key}`, search: search.toString() })} options={(sheets.data ?? []).map((one) => ({ id: one.id, text: one.title }))} />
          <Button aria-pressed={explain} onPress={() => setExplain(!explain)}>{explain ? "Hide what figures mean" : "What figures mean"}</Button>
          <Button onPress={() => void document.documentElement.requestFullscreen()}>Full screen</Button>
        </>}>{sheet.data.title}</Title>
      <Sheet>
        {sheet.data.strips.map((strip) => <StripChart key={strip.title} strip={strip} cluster={cluster} explain={explain} marks={marks} />)}
      </Sheet>
      <ClockRow aria-hidden="true"><span>one clock for every strip</span><Clock window={window} /><span><i /><i>now</i><i>highest</i></span></ClockRow>
    </>
  );
}

/** Times under the strips, as wide as their charts. */
function Clock({ window }: { window: { from: number; to: number } }) {
  return (
    <svg width="100%" height="24">
      {ticks(window.from, window.to, 7).map((tick) => <svg key={tick} x="62" width="calc(100% - 70px)" overflow="visible"><text x={`${((tick - window.from) / (window.to - window.from)) * 100}%`} y={16} textAnchor="middle">{clock(tick)}</text></svg>)}
    </svg>
  );
}

function StripChart({ strip, cluster, explain, marks }: { strip: Schemas["Strip"]; cluster: string; explain: boolean; marks: ChartMark[] }) {
  const theme = useTheme();
  const [view, setView] = useView();
  const window = useWindow();
  // Figures of nodes have no namespace: the scope's namespace does not apply to them.
  const scoped = strip.by !== "node";
  const answer = useQuery({
    queryKey: ["strip", strip.text, cluster, scoped && view.namespace, scoped && view.workload, window.from, window.to], enabled: !!cluster, placeholderData: keepPreviousData,
    queryFn: ({ signal }) => got(api.POST("/api/ask", { signal, body: { text: strip.text, from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString(), cluster, scope: scoped ? { namespace: view.namespace || null, workload: view.workload || null } : null } })),
  });
  const data = answer.data;
  const names = data ? seriesNames(data.series) : [];
  const all = (data?.series ?? []).map(figures);
  const scale = scaleFor(data?.unit ?? "", Math.max(0, ...all.map((one) => one.highest ?? 0)));
  const height = strip.height;
  // Levels and outcomes mean something: they keep their colours whatever their order.
  const meaning: Record<string, string> = { fatal: theme.critical, error: theme.critical, warn: theme.logs, info: theme.metrics };
  const colours = strip.by === "level" ? (data?.series ?? []).map((one) => meaning[String(one.labels["level"])] ?? theme.ink2) : undefined;
  const write = (value: number | null) => (value === null ? "–" : digits(value / scale.divisor));
  return (
    <Strip>
      <div className="name">
        <b>{strip.title}</b>
        <Quiet>{strip.subtitle}{scale.unit && data && (data.unit === "{core}" || !data.unit.startsWith("{")) ? `, ${scale.unit}` : ""}</Quiet>
        {explain && <About>{strip.about} <Link to={{ pathname: "/ask", search: new URLSearchParams({ cluster, q: strip.text.replaceAll(" -> ", "\n  -> ").replaceAll("; ", "\n") }).toString() }}>Ask it</Link></About>}
      </div>
      <div>
        {answer.error ? <Trouble error={answer.error} /> : data && data.series.length === 0
          ? <div style={{ padding: 14 }}><Quiet>{data.notes[0]?.text ?? "No series has a value in this window. See Arrivals for whether it is collected."}</Quiet></div>
          : data ? <Chart series={data.series} names={names} unit={data.unit} height={height} window={window} draw={strip.draw} axis={false} yAxis marks={marks} colours={colours} label={`${strip.title}, ${strip.subtitle}`} onZoom={(from, to) => setView({ last: null, from, to })} />
          : <div style={{ height, padding: 14 }} aria-busy="true"><Quiet>Reading</Quiet></div>}
      </div>
      <div className="figures">
        {names.map((name, i) => <div key={name + i}><i style={{ background: colours?.[i] ?? theme.series[i % 10] }} /><span title={name}>{name}</span><b>{write(all[i]!.last)}</b><b>{write(all[i]!.highest)}</b></div>)}
      </div>
    </Strip>
  );
}
