import { Link } from "react-router";
import styled, { useTheme } from "styled-components";
import { Quiet, Trouble } from "../parts/basics";
import { figures, seriesNames } from "../parts/chartData";
import { digits, scaleFor, unitWord, whole } from "../parts/format";
import { exact } from "../parts/time";
import { TrafficLanes } from "../ask/TrafficLanes";
import { useWindow } from "../shell/view";
import { beyond, colourOf, drawnBounds, type DrawnBound } from "./bounds";
import type { Chosen } from "./choices";
import { askLink, Beyond, useStrip } from "./StripChart";
import type { Strip } from "./sheets";

const Frame = styled.div`
  min-width: 0;
  padding: 10px 14px;
  overflow: hidden;
  & + & { border-left: 1px solid ${({ theme }) => theme.rule}; }
  .large { font: 700 30px/1.25 ${({ theme }) => theme.text}; font-variant-numeric: tabular-nums; }
  .large small { font-size: 14px; font-weight: 400; color: ${({ theme }) => theme.ink2}; }
  .row { display: grid; grid-template-columns: minmax(0, 1.2fr) minmax(40px, 1fr) 84px; gap: 8px; align-items: center; line-height: 1.55; }
  .row span, td { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  .row i { height: 9px; border-radius: 2px; background: ${({ theme }) => theme.metrics}; }
  .row b, td.number { font: 500 12px ${({ theme }) => theme.mono}; text-align: right; font-variant-numeric: tabular-nums; }
  .scroll { overflow: auto; }
  table { width: 100%; border-collapse: collapse; font-size: 12px; }
  th { text-align: left; color: ${({ theme }) => theme.ink2}; font-weight: 600; }
  th.number { text-align: right; }
  td, th { padding: 1px 8px 1px 0; max-width: 220px; }
`;

/** A share of one as a bar that is full at one; what is no share says so. */
function Gauge({ name, share, known, bounds }: { name: string; share: number; known: boolean; bounds: DrawnBound[] }) {
  const theme = useTheme();
  const level = beyond(share, bounds);
  const colour = level ? theme[level] : theme.metrics;
  return (
    <div className="row" style={{ gridTemplateColumns: name ? "minmax(0, 1fr) minmax(60px, 1.4fr) 56px" : "minmax(60px, 1fr) 64px" }}>
      {name && <span title={name}>{name}</span>}
      {known ? <span role="meter" aria-valuemin={0} aria-valuemax={100} aria-valuenow={Math.round(share * 100)} aria-label={name || "share"} style={{ background: theme.sunk, borderRadius: 2, height: 12, display: "block" }}><i style={{ display: "block", height: 12, width: `${Math.max(0, Math.min(1, share)) * 100}%`, background: colour }} /></span> : <Quiet>no share of one</Quiet>}
      <b><Beyond value={share} bounds={bounds} />{known ? `${digits(share * 100)} %` : ""}</b>
    </div>
  );
}

/** The newest log lines: time, level, text. */
function Lines({ columns, rows }: { columns: { name: string }[]; rows: unknown[][] }) {
  const theme = useTheme();
  const at = (name: string) => columns.findIndex((column) => column.name === name);
  const [time, level, text] = [at("time"), at("level"), at("text")];
  if (text < 0) return <Quiet>These rows have no text: draw them as a table.</Quiet>;
  const colours: Record<string, string> = { fatal: theme.critical, error: theme.critical, warn: theme.logs };
  return <table><tbody>{rows.map((row, i) => <tr key={i}>{time >= 0 && <td className="number">{exact(Number(row[time])).slice(-8)}</td>}{level >= 0 && <td style={{ color: colours[String(row[level])] ?? theme.ink2 }}>{String(row[level] ?? "")}</td>}<td style={{ maxWidth: 900 }} title={String(row[text] ?? "")}>{String(row[text] ?? "")}</td></tr>)}</tbody></table>;
}

/** A block of a sheet: no curve, but what is so now. */
export function Block({ strip, cluster, explain, chosen }: { strip: Strip; cluster: string; explain: boolean; chosen: Chosen }) {
  const theme = useTheme();
  const window = useWindow();
  const answer = useStrip(strip, cluster, chosen);
  const data = answer.data;
  const names = data ? seriesNames(data.series) : [];
  const rows = (data?.series ?? []).map((series, i) => ({ name: names[i] || strip.title, ...figures(series) }));
  const scale = scaleFor(data?.unit ?? "", Math.max(0, ...rows.map((row) => row.last ?? 0)));
  const unit = scale.unit || unitWord(data?.unit ?? "");
  const write = (value: number | null) => (value === null ? "–" : Number.isInteger(value) && scale.divisor === 1 ? whole(value) : digits(value / scale.divisor));
  const bounds = drawnBounds(strip.bounds, data?.bounds);
  const shares = data?.unit === "%" ? bounds.map((bound) => ({ ...bound, value: bound.value / 100 })) : bounds;
  const note = data?.notes.find(({ kind }) => kind === "not chosen by" || kind === "bound");
  const ranked = [...rows].sort((a, b) => (b.last ?? -Infinity) - (a.last ?? -Infinity));
  const most = Math.max(0, ...ranked.map((row) => row.last ?? 0));
  const cell = (value: unknown, columnUnit: string) => (value === null || value === undefined ? "" : columnUnit === "time" ? exact(Number(value)) : typeof value === "number" ? (Number.isInteger(value) ? whole(value) : digits(value)) : String(value));
  return (
    <Frame role="group" aria-label={strip.title}>
      <b>{strip.title}</b> <Quiet>{strip.subtitle}{strip.draw !== "figure" && strip.draw !== "gauge" && unit && !data?.unit.startsWith("{") ? `, ${unit}` : ""}</Quiet>
      {note && <p style={{ margin: "2px 0", fontSize: 12, color: theme.ink2 }}>{note.text}</p>}
      {explain && <p style={{ margin: "4px 0", fontSize: 12, color: theme.ink2 }}>{strip.about} <Link to={askLink(strip, cluster, chosen)}>Ask it</Link></p>}
      <div className="scroll" style={{ height: strip.height }} tabIndex={0} role="region" aria-label={`${strip.title}, values`}>
        {answer.error ? <Trouble error={answer.error} /> : !data ? <Quiet>Reading</Quiet>
          : data.shape === "rows" && (data.rows ?? []).length === 0 ? <Quiet>{data.notes[0]?.text ?? "Nothing of the kind in this window."}</Quiet>
          : data.shape === "rows" && strip.draw === "lanes" ? (data.view === "graph" ? <TrafficLanes answer={data} asked={strip.text} cluster={cluster} window={window} addresses={false} height={strip.height} /> : <Quiet>Lanes show who talks to whom: end the enquiry with graph.</Quiet>)
          : data.shape === "rows" && strip.draw === "log" ? <Lines columns={data.columns!} rows={data.rows ?? []} />
          : data.shape === "rows" ? (strip.draw === "table" ? <table><thead><tr>{data.columns!.map((column) => <th key={column.name}>{column.name}{column.unit && column.unit !== "time" && !column.unit.startsWith("{") ? `, ${column.unit}` : ""}</th>)}</tr></thead><tbody>{(data.rows ?? []).map((row, i) => <tr key={i}>{data.columns!.map((column, j) => <td key={column.name} title={cell(row[j], column.unit)}>{cell(row[j], column.unit)}</td>)}</tr>)}</tbody></table>
            : <Quiet>This enquiry answers with rows: draw it as a table or as log lines, or end it with a count.</Quiet>)
          : rows.length === 0 ? <Quiet>{data.notes[0]?.text ?? "No series has a value in this window. See Arrivals for whether it is collected."}</Quiet>
          : strip.draw === "figure" ? (rows.length === 1 ? <div className="large" title="the newest value"><Beyond value={rows[0]!.last} bounds={bounds} />{write(rows[0]!.last)} <small>{data.unit.startsWith("{") && rows[0]!.last !== 1 && !unit.endsWith("s") ? `${unit}s` : unit}</small></div>
            : ranked.slice(0, 6).map((row) => <div key={row.name} className="row" style={{ gridTemplateColumns: "minmax(0,1fr) auto" }}><span title={row.name}>{row.name}</span><b style={{ fontSize: 15 }}><Beyond value={row.last} bounds={bounds} />{write(row.last)} {unit}</b></div>))
          : strip.draw === "gauge" ? ranked.slice(0, 6).map((row) => <Gauge key={row.name} name={rows.length === 1 ? "" : row.name} share={data.unit === "%" ? (row.last ?? 0) / 100 : row.last ?? 0} known={row.last !== null && (data.unit === "1" || data.unit === "%" || data.unit === "")} bounds={shares} />)
          : strip.draw === "ranked" ? ranked.map((row) => <div key={row.name} className="row"><span title={row.name}>{row.name}</span><i style={{ background: colourOf(theme, strip.colours?.[row.name] ?? ""), width: `${most > 0 ? Math.max(1, ((row.last ?? 0) / most) * 100) : 0}%` }} /><b><Beyond value={row.last} bounds={bounds} />{write(row.last)}</b></div>)
          : <table><thead><tr><th>{strip.by || "series"}</th><th className="number">now</th><th className="number">mean</th><th className="number">highest</th></tr></thead><tbody>{ranked.map((row) => <tr key={row.name}><td title={row.name}>{row.name}</td><td className="number"><Beyond value={row.last} bounds={bounds} />{write(row.last)}</td><td className="number">{write(row.mean)}</td><td className="number">{write(row.highest)}</td></tr>)}</tbody></table>}
      </div>
    </Frame>
  );
}
