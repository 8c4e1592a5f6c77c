import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import styled, { useTheme } from "styled-components";
import { api, got } from "../api/client";
import { Quiet, Trouble } from "../parts/basics";
import { Chart, type ChartMark } from "../parts/Chart";
import { figures, seriesNames } from "../parts/chartData";
import { digits, scaleFor } from "../parts/format";
import { useView, useWindow } from "../shell/view";
import { againsts, backOf, earlier } from "./against";
import { HeatBands } from "./HeatBands";
import { isBlock, type Strip } from "./sheets";

const Line = styled.div`
  display: grid;
  grid-template-columns: 146px minmax(0, 1fr) 232px;
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


/** What a strip's enquiry answers in the page's window and scope. */
export function useStrip(strip: Strip, cluster: string, back = 0) {
  const [view] = useView();
  const present = useWindow();
  const window = { from: present.from - back, to: present.to - back };
  // Figures of nodes have no namespace: the scope's namespace does not apply to them.
  const scoped = strip.by !== "node";
  return useQuery({
    queryKey: ["strip", strip.text, cluster, scoped && view.namespace, scoped && view.workload, window.from, window.to], enabled: !!cluster && !!strip.text.trim(), placeholderData: keepPreviousData,
    queryFn: ({ signal }) => got(api.POST("/api/ask", { signal, body: { text: strip.text, from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString(), cluster, scope: scoped ? { namespace: view.namespace || null, workload: view.workload || null } : null, page: isBlock(strip) ? { size: 20, after: null } : null } })),
  });
}

export const askLink = (strip: Strip, cluster: string) => ({ pathname: "/ask", search: new URLSearchParams({ cluster, q: strip.text.replaceAll(" -> ", "\n  -> ").replaceAll("; ", "\n") }).toString() });

/** One strip: its name, its chart on the sheet's clock, its figures. */
export function StripChart({ strip, cluster, explain, marks, against }: { strip: Strip; cluster: string; explain: boolean; marks: ChartMark[]; against: string }) {
  const theme = useTheme();
  const [, setView] = useView();
  const window = useWindow();
  const answer = useStrip(strip, cluster);
  const data = answer.data;
  // Stacks and bands have no room for a second time.
  const back = strip.draw === "stack" || strip.draw === "heat" ? 0 : backOf(against);
  const before = useStrip(strip, back > 0 ? cluster : "", back);
  const then = back > 0 && before.data?.unit === data?.unit ? earlier(before.data?.series ?? [], back) : [];
  const names = data ? seriesNames(data.series) : [];
  const all = (data?.series ?? []).map(figures);
  const scale = scaleFor(data?.unit ?? "", Math.max(0, ...all.map((one) => one.highest ?? 0)));
  const height = strip.height;
  // Levels and outcomes mean something: they keep their colours whatever their order.
  const meaning: Record<string, string> = { fatal: theme.critical, error: theme.critical, warn: theme.logs, info: theme.metrics };
  const colours = strip.by === "level" ? (data?.series ?? []).map((one) => meaning[String(one.labels["level"])] ?? theme.ink2) : undefined;
  const write = (value: number | null) => (value === null ? "–" : digits(value / scale.divisor));
  return (
    <Line>
      <div className="name">
        <b>{strip.title}</b>
        <Quiet>{[strip.subtitle, data && (data.unit === "{core}" || !data.unit.startsWith("{")) ? scale.unit : ""].filter(Boolean).join(", ")}</Quiet>
        {explain && <About>{strip.about} <Link to={askLink(strip, cluster)}>Ask it</Link></About>}
      </div>
      <div>
        {answer.error ? <Trouble error={answer.error} /> : data && data.series.length === 0
          ? <div style={{ padding: 14 }}><Quiet>{data.notes[0]?.text ?? "No series has a value in this window. See Arrivals for whether it is collected."}</Quiet></div>
          : data && strip.draw === "heat" ? <HeatBands series={data.series} names={names} unit={data.unit} height={height} label={`${strip.title}, ${strip.subtitle}`} />
          : data ? <Chart series={[...data.series, ...then]} names={[...names, ...seriesNames(then).map((name) => `${name}, ${againsts.find((one) => one.id === against)?.text}`)]} unit={data.unit} height={height} window={window} draw={strip.draw} axis={false} yAxis marks={marks} colours={then.length > 0 ? [...data.series.map((_, i) => colours?.[i] ?? theme.series[i % theme.series.length]!), ...then.map(() => theme.ink2)] : colours} label={`${strip.title}, ${strip.subtitle}`} onZoom={(from, to) => setView({ last: null, from, to })} />
          : <div style={{ height, padding: 14 }} aria-busy="true"><Quiet>Reading</Quiet></div>}
      </div>
      <div className="figures">
        {names.map((name, i) => <div key={name + i}><i style={{ background: strip.draw === "heat" ? "transparent" : colours?.[i] ?? theme.series[i % 10] }} /><span title={name}>{name}</span><b>{write(all[i]!.last)}</b><b>{write(all[i]!.highest)}</b></div>)}
      </div>
    </Line>
  );
}
