import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import styled, { useTheme } from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Mark, Quiet } from "../parts/basics";
import { Chart } from "../parts/Chart";
import { seriesNames } from "../parts/chartData";
import { Drawer } from "../parts/overlays";
import { exact } from "../parts/time";
import { onlyConditions, withCondition, write, type Cell } from "./rows";

const levels: Record<string, Schemas["HealthLevel"]> = { fatal: "critical", error: "critical", warn: "minor", info: "clear", debug: "clear", trace: "clear" };
const levelColours = ["fatal", "error", "warn", "info", "debug", "trace"] as const;

const Whole = styled.div`display: flex; gap: 12px; flex: 1; min-height: 0;`;
const List = styled.div`
  flex: 1;
  min-width: 0;
  overflow: auto;
  font: 12px/1.55 ${({ theme }) => theme.mono};
  > button {
    display: grid;
    grid-template-columns: 16px 96px 150px minmax(0, 1fr);
    gap: 10px;
    width: 100%;
    min-height: 24px;
    align-items: center;
    padding: 0 12px;
    border: 0;
    background: none;
    color: ${({ theme }) => theme.ink};
    font: inherit;
    text-align: left;
    cursor: pointer;
  }
  > button:hover { background: ${({ theme }) => theme.sunk}; }
  > button:focus-visible { outline: 2px solid ${({ theme }) => theme.act}; outline-offset: -2px; }
  > button[aria-pressed="true"] { background: ${({ theme }) => theme.chosen}; box-shadow: inset 3px 0 0 ${({ theme }) => theme.act}; }
  > button > span { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  > button > span.quiet { color: ${({ theme }) => theme.ink2}; }
`;
const Values = styled.div`
  button { display: block; text-align: left; white-space: normal; overflow-wrap: anywhere; font-weight: 400; line-height: 1.35; }
  dl { grid-template-columns: 1fr; gap: 1px; }
  dt { margin-top: 6px; }
  pre { white-space: pre-wrap; overflow-wrap: anywhere; font-size: 12px; margin: 0; }
`;

/** Log lines or events, the newest first, with their course above and the chosen one's fields at the side. */
export function LogLines({ answer, asked, cluster, scope, window, onAsk, onTrace, onZoom }: {
  answer: Schemas["AskAnswer"]; asked: string; cluster: string; scope: { namespace: string; workload: string }; window: { from: number; to: number };
  onAsk: (text: string) => void; onTrace: (trace: string) => void; onZoom: (from: number, to: number) => void;
}) {
  const theme = useTheme();
  // Lines move down as newer ones arrive: the chosen one is known by what it says, not by its place.
  const [open, setOpen] = useState<string | null>(null);
  useEffect(() => setOpen(null), [asked]);
  const columns = answer.columns ?? [];
  const rows = (answer.rows ?? []) as Cell[][];
  const at = (name: string) => columns.findIndex((column) => column.name === name);
  const get = (row: Cell[], name: string) => (at(name) < 0 ? null : row[at(name)] ?? null);
  const countable = onlyConditions(asked);
  const course = useQuery({
    queryKey: ["course", asked, cluster, scope.namespace, scope.workload, window.from, window.to], enabled: countable, placeholderData: keepPreviousData,
    queryFn: ({ signal }) => got(api.POST("/api/ask", { signal, body: { text: `${asked}\n  -> count by level`, from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString(), cluster, scope: { namespace: scope.namespace || null, workload: scope.workload || null } } })),
  });
  const series = [...(course.data?.series ?? [])].sort((a, b) => levelColours.indexOf(a.labels["level"] as "info") - levelColours.indexOf(b.labels["level"] as "info"));
  const keyOf = (row: Cell[]) => `${get(row, "time")} ${get(row, "pod")} ${get(row, "text")}`;
  const chosen = open === null ? null : rows.find((row) => keyOf(row) === open) ?? null;
  const trace = chosen && get(chosen, "trace");
  return (
    <>
      {countable && series.length > 0 && <div style={{ padding: "0 10px" }}><Chart series={series} names={seriesNames(series)} unit="{line}" height={84} window={window} draw="area" label="Lines by level over time" onZoom={onZoom}
        colours={series.map((one) => ({ fatal: theme.critical, error: theme.critical, warn: theme.logs })[String(one.labels["level"])] ?? theme.metrics)} /></div>}
      <Whole>
        <List aria-label="Lines" role="group">
          {rows.map((row, i) => {
            const level = String(get(row, "level") ?? "");
            return (
              <button key={i} type="button" aria-pressed={open === keyOf(row)} onClick={() => setOpen(open === keyOf(row) ? null : keyOf(row))}>
                <Mark level={levels[level] ?? "clear"} title={level || "no level"} />
                <span className="quiet">{write(get(row, "time"), "time")}</span>
                <span className="quiet" title={String(get(row, "pod") ?? get(row, "object") ?? "")}>{shortPod(String(get(row, "pod") ?? get(row, "object") ?? ""))}</span>
                <span>{get(row, "reason") ? `${get(row, "reason")}: ` : ""}{String(get(row, "text") ?? "")}</span>
              </button>
            );
          })}
        </List>
        {chosen && (
          <Drawer title={`Line of ${exact(Number(get(chosen, "time")))}`} onClose={() => setOpen(null)}>
            <Values>
              <pre tabIndex={0}>{String(get(chosen, "text") ?? "")}</pre>
              {trace && <p><Button onPress={() => onTrace(String(trace))}>Its trace</Button></p>}
              <LineFields chosen={chosen} columns={columns} cluster={cluster} events={answer.view === "events"} onValue={(field, value) => onAsk(withCondition(asked, field, value))} />
              <p><Quiet>Choosing a value adds a step to the enquiry.</Quiet></p>
            </Values>
          </Drawer>
        )}
      </Whole>
    </>
  );
}

const shortPod = (name: string) => name.replace(/-[0-9a-f]{9}-/, "-…-");

/** All fields of a line: those shown, and its own attributes, fetched by its time and text. */
function LineFields({ chosen, columns, cluster, events, onValue }: { chosen: Cell[]; columns: Schemas["ColumnView"][]; cluster: string; events: boolean; onValue: (field: string, value: Cell) => void }) {
  const time = Number(chosen[columns.findIndex((column) => column.name === "time")]);
  const fields = useQuery({
    queryKey: ["line-fields", cluster, events, time],
    queryFn: () => got(api.GET("/api/ask/row-fields", { params: { query: { kind: events ? "events" : "logs", cluster, from: new Date(time - 1).toISOString(), to: new Date(time + 1).toISOString() } } })),
  });
  const shown = columns.map((column, i) => [column.name, chosen[i] ?? null] as const).filter(([name, value]) => value !== null && !["time", "text"].includes(name));
  const names = new Set(shown.map(([name]) => name));
  const more = (fields.data ?? []).filter((field) => field.values.length === 1 && !names.has(field.name)).map((field) => [field.name, field.values[0]!] as const);
  return <dl>{[...shown, ...more].map(([name, value]) => [<dt key={name}>{name}</dt>, <dd key={name + "v"} style={{ textAlign: "left" }}><Button bare onPress={() => onValue(name, value)}>{String(value)}</Button></dd>])}</dl>;
}

