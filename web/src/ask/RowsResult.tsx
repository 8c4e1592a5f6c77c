import { useState } from "react";
import { useSearchParams } from "react-router";
import styled from "styled-components";
import type { Schemas } from "../api/client";
import { Button, Card, Empty, Heading, Quiet, Row } from "../parts/basics";
import { whole } from "../parts/format";
import { CopyCsv, Table, type Column } from "../parts/Table";
import { LogLines } from "./LogLines";
import { linesOfKind, rowsOfDifference, telling, title, write, type Cell } from "./rows";
import { SaveAnswer } from "./SaveAnswer";
import { TrafficLanes } from "./TrafficLanes";

const Result = styled(Card)`
  flex: 1;
  min-height: 300px;
  margin-top: 12px;
  display: flex;
  flex-direction: column;
  > div.head { padding: 8px 14px 6px; display: flex; gap: 14px; align-items: center; }
`;

const nouns: Record<string, [string, string]> = { logs: ["line", "lines"], events: ["event", "events"], spans: ["span", "spans"], flows: ["row of flows", "rows of flows"], traces: ["trace", "traces"], graph: ["pair", "pairs"], kinds: ["kind", "kinds"], differ: ["difference", "differences"], alarms: ["change of an alarm", "changes of alarms"] };
const widths: Record<string, string> = { time: "104px", level: "64px", kind: "76px", duration: "92px", status: "70px", trace: "22%", span: "136px", parent: "136px", family: "62px", protocol: "76px", flags: "62px", outcome: "86px", flows: "62px", packets: "74px", bytes: "90px", spans: "70px", errors: "92px", rate: "92px", dropped: "92px", p95: "80px", "destination.port": "62px", request: "18%" };
const widthsOf: Record<string, Record<string, string>> = { kinds: { kind: "48%", count: "84px", time: "104px" }, differ: { field: "28%", inside: "92px", outside: "92px", lift: "92px" }, alarms: { time: "104px", rule: "26%", change: "84px", severity: "84px", value: "104px" } };
const titles: Record<string, string> = { "source.address": "source", "destination.address": "destination", "destination.port": "port" };

/** Rows in the view that suits them: lines, lanes, or a table. */
export function RowsResult({ answer, asked, cluster, scope, window, busy, onAsk, onTrace, onZoom, onMore }: {
  answer: Schemas["AskAnswer"]; asked: string; cluster: string; scope: { namespace: string; workload: string }; window: { from: number; to: number }; busy: boolean;
  onAsk: (text: string) => void; onTrace: (trace: string) => void; onZoom: (from: number, to: number) => void; onMore: () => void;
}) {
  const [search, setSearch] = useSearchParams();
  const [asTable, setAsTable] = useState(false);
  const all = answer.columns ?? [];
  const rows = (answer.rows ?? []) as Cell[][];
  const at = (row: Cell[], name: string) => row[all.findIndex((column) => column.name === name)] ?? null;
  // Flows have two ways to be read: by name, or by raw address.
  const raw = search.get("ends") === "addresses";
  const hidden = answer.view === "flows" ? ["source.namespace", "destination.namespace", "packets", ...(raw ? ["source", "destination"] : ["source.address", "destination.address"])] : answer.view === "spans" ? ["span", "parent"] : answer.view === "alarms" ? ["unit", "namespace"] : [];
  const kept = telling(all, rows, 9).filter((column) => !hidden.includes(column.name));
  const columns: Column<Cell[]>[] = kept.map((column) => {
    const i = all.findIndex((one) => one.name === column.name);
    const number = rows.some((row) => typeof row[i] === "number");
    return { id: column.name, title: answer.view === "flows" ? titles[column.name] ?? title(column) : title(column), number: number && column.unit !== "time", width: (widthsOf[answer.view ?? ""] ?? widths)[column.name], cell: (row) => write(row[i] ?? null, answer.view === "alarms" && column.name === "value" ? String(at(row, "unit") ?? "") : column.unit), value: (row) => row[i] ?? null };
  });
  const traceAt = all.findIndex((column) => column.name === "trace");
  const [one, many] = nouns[answer.view ?? ""] ?? ["row", "rows"];
  const total = answer.total ?? rows.length;
  const setRaw = (on: boolean) => setSearch((before) => { const next = new URLSearchParams(before); if (on) next.set("ends", "addresses"); else next.delete("ends"); return next; });
  if (rows.length === 0) return <Result><Empty title="Nothing is left">{answer.notes.find((note) => note.kind === "nothing left")?.text ?? "No row fulfils the enquiry in this window."}</Empty></Result>;
  const open = traceAt >= 0 ? (row: Cell[]) => { if (row[traceAt]) onTrace(String(row[traceAt])); }
    : answer.view === "kinds" ? (row: Cell[]) => onAsk(linesOfKind(asked, String(at(row, "kind"))))
    : answer.view === "differ" ? (row: Cell[]) => onAsk(rowsOfDifference(asked, String(at(row, "field")), at(row, "value"))) : undefined;
  const lines = (answer.view === "logs" || answer.view === "events") && all.some((column) => column.name === "text");
  const graph = answer.view === "graph";
  const addresses = /->\s*graph\s+addresses/.test(asked);
  const head = (
    <div className="head">
      <Heading>{whole(total)} {total === 1 ? one : many}</Heading>
      <Quiet style={{ flex: 1 }}>{lines ? "the newest first; choose one to see its fields" : traceAt >= 0 ? "choose one to see its trace" : graph ? "callers stand left of what they call; choose a ribbon for its story" : answer.view === "kinds" ? "the most frequent first; choose one to see its lines" : answer.view === "differ" ? "what tells the rows apart most stands first; choose one to see its rows" : ""}</Quiet>
      {graph && asked.trimStart().startsWith("flows") && <Button bare onPress={() => onAsk(addresses ? asked.replace(/graph\s+addresses/, "graph") : asked.replace(/->\s*graph/, "-> graph addresses"))}>{addresses ? "Names" : "Raw addresses"}</Button>}
      {answer.view === "flows" && !asked.includes("source.port") && <Button bare onPress={() => onAsk(`${asked.trim()}\n  -> show time, source, source.port, destination, destination.port, protocol, outcome, reason, duration, bytes, request`)}>One by one</Button>}
      {answer.view === "flows" && <Button bare onPress={() => setRaw(!raw)}>{raw ? "Names" : "Raw addresses"}</Button>}
      {(graph || lines) && <Button bare aria-pressed={asTable} onPress={() => setAsTable(!asTable)}>{asTable ? (graph ? "Lanes" : "Lines") : "Table"}</Button>}
      <SaveAnswer asked={asked} cluster={cluster} scope={scope} window={window} />
      <CopyCsv columns={columns} rows={rows} />
    </div>
  );
  if (graph && !asTable)
    return <><div style={{ display: "flex", gap: 14, alignItems: "center", padding: "10px 2px 0" }}>{head.props.children}</div><TrafficLanes answer={answer} asked={asked} cluster={cluster} window={window} addresses={addresses} /></>;
  return (
    <Result aria-busy={busy}>
      {head}
      {lines && !asTable ? <LogLines answer={answer} asked={asked} cluster={cluster} scope={scope} window={window} onAsk={onAsk} onTrace={onTrace} onZoom={onZoom} />
        : <Table label={many[0]!.toUpperCase() + many.slice(1)} columns={columns} rows={rows} rowKey={(row) => String(rows.indexOf(row))} onOpen={open} />}
      {answer.next && <Row style={{ padding: "6px 14px", justifyContent: "space-between" }}><Quiet>{whole(rows.length)} of {whole(total)} shown</Quiet><Button onPress={onMore} isDisabled={busy}>{busy ? "Fetching" : "Show more"}</Button></Row>}
    </Result>
  );
}
