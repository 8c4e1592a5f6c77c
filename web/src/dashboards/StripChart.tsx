import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import styled, { useTheme } from "styled-components";
import { api, got } from "../api/client";
import { Mark, Quiet, Trouble } from "../parts/basics";
import { Chart, type ChartMark } from "../parts/Chart";
import { figures, mix, seriesNames, type AnswerSeries } from "../parts/chartData";
import { digits, scaleFor } from "../parts/format";
import { useView, useWindow } from "../shell/view";
import { againsts, backOf, earlier } from "./against";
import { beyond, colourOf, drawnBounds, type DrawnBound } from "./bounds";
import { withChosen, type Chosen } from "./choices";
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
const Apart = styled.div`& + & { border-top: 1px dotted ${({ theme }) => theme.rule}; }`;
const About = styled.p`margin: 6px 0 0; font-size: 12px; color: ${({ theme }) => theme.ink2};`;


/** What a strip's enquiry answers in the page's window and scope. */
export function useStrip(strip: Strip, cluster: string, chosen: Chosen, back = 0) {
  const [view] = useView();
  const present = useWindow();
  const window = { from: present.from - back, to: present.to - back };
  // Figures of nodes have no namespace: the scope's namespace does not apply to them.
  const scoped = strip.by !== "node";
  const bounds = (strip.bounds ?? []).map((bound) => bound.at);
  return useQuery({
    queryKey: ["strip", strip.text, cluster, scoped && view.namespace, scoped && view.workload, window.from, window.to, chosen, bounds], enabled: !!cluster && !!strip.text.trim(), placeholderData: keepPreviousData,
    queryFn: ({ signal }) => got(api.POST("/api/ask", { signal, body: { text: strip.text, from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString(), cluster, scope: { namespace: (scoped && view.namespace) || null, workload: (scoped && view.workload) || null, fields: chosen }, page: isBlock(strip) ? { size: strip.draw === "lanes" ? 2000 : 20, after: null } : null, bounds } })),
  });
}

export const askLink = (strip: Strip, cluster: string, chosen: Chosen) => ({ pathname: "/ask", search: new URLSearchParams({ cluster, ...(strip.kept && Object.keys(chosen).length === 0 ? { kept: strip.kept } : {}), q: withChosen(strip.text, chosen).replaceAll(" -> ", "\n  -> ").replaceAll("; ", "\n") }).toString() });

/** The mark of the gravest bound a figure is beyond. */
export function Beyond({ value, bounds }: { value: number | null; bounds: DrawnBound[] }) {
  const level = beyond(value, bounds);
  // A glyph of another font must not push the figure off its line.
  return level ? <span style={{ display: "inline-block", height: 12, lineHeight: "12px", verticalAlign: "baseline" }}><Mark level={level} title={`beyond ${bounds.find((bound) => bound.level === level)!.text}`} /></span> : null;
}

/** One strip: its name, its chart on the sheet's clock, its figures. */
export function StripChart({ strip, cluster, explain, marks, against, chosen }: { strip: Strip; cluster: string; explain: boolean; marks: ChartMark[]; against: string; chosen: Chosen }) {
  const theme = useTheme();
  const [, setView] = useView();
  const window = useWindow();
  const answer = useStrip(strip, cluster, chosen);
  const data = answer.data;
  // Stacks and bands have no room for a second time.
  const back = ["stack", "bars", "heat", "apart"].includes(strip.draw) ? 0 : backOf(against);
  const before = useStrip(strip, back > 0 ? cluster : "", chosen, back);
  const then = back > 0 && before.data?.unit === data?.unit ? earlier(before.data?.series ?? [], back) : [];
  const names = data ? seriesNames(data.series) : [];
  const all = (data?.series ?? []).map(figures);
  const scale = scaleFor(data?.unit ?? "", Math.max(0, ...all.map((one) => one.highest ?? 0)));
  const height = strip.height;
  // Levels and outcomes mean something: they keep their colours whatever their order.
  const meaning: Record<string, string> = strip.by === "level" ? { fatal: theme.critical, error: theme.critical, warn: theme.logs, info: theme.metrics } : {};
  const own = (one: AnswerSeries) => { const value = String(one.labels[strip.by] ?? ""); return colourOf(theme, strip.colours?.[value] ?? "") ?? meaning[value]; };
  const colours = (data?.series ?? []).some((one) => own(one)) ? data!.series.map((one, i) => own(one) ?? (strip.by === "level" ? theme.ink2 : theme.series[i % theme.series.length]!)) : undefined;
  const colourAt = (i: number) => colours?.[i] ?? theme.series[i % theme.series.length]!;
  const bounds = drawnBounds(strip.bounds, data?.bounds);
  const note = data?.notes.find(({ kind }) => kind === "not chosen by" || kind === "bound");
  const write = (value: number | null) => (value === null ? "–" : digits(value / scale.divisor));
  return (
    <Line>
      <div className="name">
        <b>{strip.title}</b>
        <Quiet>{[strip.subtitle, data && (data.unit === "{core}" || !data.unit.startsWith("{")) ? scale.unit : ""].filter(Boolean).join(", ")}</Quiet>
        {note && <About>{note.text}</About>}
        {explain && <About>{strip.about} <Link to={askLink(strip, cluster, chosen)}>Ask it</Link></About>}
      </div>
      <div>
        {answer.error ? <Trouble error={answer.error} /> : data && data.series.length === 0
          ? <div style={{ padding: 14 }}><Quiet>{data.notes[0]?.text ?? "No series has a value in this window. See Arrivals for whether it is collected."}</Quiet></div>
          : data && strip.draw === "heat" ? <HeatBands series={data.series} names={names} unit={data.unit} height={height} label={`${strip.title}, ${strip.subtitle}`} />
          : data && strip.draw === "apart" ? data.series.map((one, i) => <Apart key={names[i]! + i}><Chart series={[one]} names={[names[i]!]} unit={data.unit} greatest={Math.max(0, ...all.map((figure) => figure.highest ?? 0))} height={Math.max(40, Math.floor(height / data.series.length))} window={window} axis={false} marks={marks} bounds={bounds} colours={[colourAt(i)]} label={`${strip.title}, ${names[i]}`} onZoom={(from, to) => setView({ last: null, from, to })} /></Apart>)
          : data ? <Chart series={[...data.series, ...then]} names={[...names, ...seriesNames(then).map((name) => `${name}, ${againsts.find((one) => one.id === against)?.text}`)]} unit={data.unit} height={height} window={window} draw={strip.draw} axis={false} yAxis marks={marks} bounds={bounds} colours={then.length > 0 ? [...data.series.map((_, i) => colourAt(i)), ...then.map((one) => mix(colourAt(Math.max(0, data.series.findIndex((now) => JSON.stringify(now.labels) === JSON.stringify(one.labels)))), theme.sheet, 0.5))] : colours} label={`${strip.title}, ${strip.subtitle}`} onZoom={(from, to) => setView({ last: null, from, to })} />
          : <div style={{ height, padding: 14 }} aria-busy="true"><Quiet>Reading</Quiet></div>}
      </div>
      <div className="figures" style={strip.draw === "apart" ? { padding: "0 12px" } : undefined}>
        {names.map((name, i) => <div style={strip.draw === "apart" ? { flex: 1 } : undefined} key={name + i}><i style={{ background: strip.draw === "heat" ? "transparent" : colours?.[i] ?? theme.series[i % 10] }} /><span title={name}>{name}</span><b><Beyond value={all[i]!.last} bounds={bounds} />{write(all[i]!.last)}</b><b>{write(all[i]!.highest)}</b></div>)}
      </div>
    </Line>
  );
}
