import { PutOnSheet } from "../dashboards/SheetDialogs";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import styled, { useTheme } from "styled-components";
import { api, got, Problem, type Schemas } from "../api/client";
import { Button, Card, Empty, Heading, Quiet, Row, Title, Trouble } from "../parts/basics";
import { Chart } from "../parts/Chart";
import { figures, seriesNames } from "../parts/chartData";
import { CopyCsv, Table, type Column } from "../parts/Table";
import { digits, scaleFor, unitWord } from "../parts/format";
import { useCluster } from "../shell/Shell";
import { useView, useWindow } from "../shell/view";
import { applyCure } from "./cure";
import { Editor, type EnquiryError } from "./Editor";
import { Ledger } from "./Ledger";
import { RowsResult } from "./RowsResult";
import { KeepDialog, KeptList, useKept } from "./KeptEnquiries";
import { SaveAnswer } from "./SaveAnswer";
import { SeriesDetail } from "./SeriesDetail";
import { TraceView } from "./TraceView";

const Result = styled(Card)`
  flex: 1;
  min-height: 300px;
  margin-top: 12px;
  display: flex;
  flex-direction: column;
  > div.head { padding: 8px 14px 2px; display: flex; gap: 14px; align-items: center; }
  > div.chart { padding: 0 10px; }
`;
const Beside = styled.div`display: flex; gap: 12px; flex: 1; min-height: 0; > section { min-width: 0; } > aside { margin-top: 12px; }`;
const Foot = styled(Row)`padding: 8px 12px; border-top: 1px solid ${({ theme }) => theme.rule}; justify-content: space-between;`;
const Swatch = styled.i<{ $colour: string }>`display: inline-block; width: 10px; height: 10px; border-radius: 2px; margin-right: 8px; background: ${({ $colour }) => $colour};`;
const Examples = styled.div`
  display: grid;
  gap: 6px;
  justify-content: center;
  button { font-family: ${({ theme }) => theme.mono}; font-weight: 400; text-align: left; }
`;

const examples = [
  "logs -> where level in (\"warn\", \"error\")",
  "spans -> where status = \"error\" -> traces",
  "flows -> graph",
  "flows -> where outcome = \"dropped\" -> count by reason",
  "container.cpu.time -> rate -> sum by workload -> highest 5",
  "container.memory.working_set -> where workload = \"ledger\" -> max by pod",
  "k8s.container.restart.count -> max by pod -> highest 5 by max",
];

type Row1 = { name: string; index: number; labels: Record<string, string>; figures: ReturnType<typeof figures> };

export function AskStation() {
  const cluster = useCluster();
  const theme = useTheme();
  const navigate = useNavigate();
  const [search, setSearch] = useSearchParams();
  const [view, setView] = useView();
  const window = useWindow();
  const asked = search.get("q") ?? "";
  const [putting, setPutting] = useState(false);
  const [keeping, setKeeping] = useState(false);
  const kept = useKept(search.get("kept"));
  const [text, setText] = useState(asked);
  const [editing, setEditing] = useState(!asked);
  const [shape, setShape] = useState<"both" | "table">("both");
  const [size, setSize] = useState(500);
  const [chosen, setChosen] = useState<string | null>(null);
  useEffect(() => { setText(asked); setSize(500); setChosen(null); }, [asked]);
  const answer = useQuery({
    queryKey: ["ask", asked, cluster, view.namespace, view.workload, window.from, window.to, size], enabled: !!cluster && !!asked.trim(), retry: false, placeholderData: keepPreviousData,
    queryFn: ({ signal }) => got(api.POST("/api/ask", { signal, body: { text: asked, from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString(), cluster, scope: { namespace: view.namespace || null, workload: view.workload || null }, page: { size } } })),
  });
  const error = answer.error instanceof Problem ? (answer.error.errors as EnquiryError[])[0] ?? null : null;
  useEffect(() => { if (error) setEditing(true); }, [error]);
  const ask = (enquiry: string) => {
    setText(enquiry);
    if (enquiry.trim() === asked.trim()) void answer.refetch();
    setSearch((before) => { const next = new URLSearchParams(before); next.set("q", enquiry.trim()); next.delete("trace"); return next; });
    setEditing(false);
  };
  const trace = search.get("trace");
  const openTrace = (id: string | null) => setSearch((before) => { const next = new URLSearchParams(before); if (id) next.set("trace", id); else next.delete("trace"); return next; });
  const data = !answer.error && asked ? answer.data : undefined;
  const names = data ? seriesNames(data.series) : [];
  const rows: Row1[] = (data?.series ?? []).map((series, index) => ({ name: names[index]!, index, labels: series.labels as Record<string, string>, figures: figures(series) }));
  const scale = scaleFor(data?.unit ?? "", Math.max(0, ...rows.map((row) => Math.abs(row.figures.highest ?? 0))));
  const columns: Column<Row1>[] = [
    { id: "name", title: "Series", width: chosen ? "34%" : "44%", cell: (row) => <span title={Object.entries(row.labels).map(([name, value]) => `${name} = ${value}`).join("\n")}><Swatch $colour={theme.series[row.index % 10]!} />{row.name}</span>, value: (row) => row.name },
    ...(["last", "mean", "lowest", "highest"] as const).map((id): Column<Row1> => ({ id, title: id, number: true, cell: (row) => (row.figures[id] === null ? "–" : `${digits(row.figures[id]! / scale.divisor)} ${scale.unit}`), value: (row) => row.figures[id] })),
  ];
  const editor = (
    <Card>
      <Editor text={text} onChange={setText} onAsk={ask} onLeave={asked ? () => { setText(asked); setEditing(false); } : undefined} error={error} cluster={cluster} />
      {error && <div style={{ padding: "0 12px 8px" }}><Trouble error={new Problem(400, error.message, error.suggestion ? "" : "Correct the marked word.")} />{error.suggestion && error.word && <Button bare onPress={() => {
        const lines = text.split("\n");
        const line = lines[error.line - 1] ?? "";
        lines[error.line - 1] = line.slice(0, error.column - 1) + error.suggestion + line.slice(error.column - 1 + error.word.length);
        ask(lines.join("\n"));
      }}>Write {error.suggestion}</Button>}</div>}
      <Foot><Quiet>Ctrl Enter asks; Ctrl Space completes names and values</Quiet><Row $gap={8}>{asked && <Button onPress={() => { setText(asked); setEditing(false); }} isDisabled={!!error}>Leave</Button>}<Button main isDisabled={!text.trim()} onPress={() => ask(text)}>Ask</Button></Row></Foot>
    </Card>
  );
  const same = !!kept && kept.text.trim() === asked.trim();
  const onSheet = putting && data && <PutOnSheet text={asked} draw={data.shape === "series" ? "lines" : data.view === "graph" ? "lanes" : data.view === "logs" ? "log" : "table"} kept={same ? kept!.id : null} title={same ? kept!.title : heading(data)} close={() => setPutting(false)} done={(id) => navigate({ pathname: `/dashboards/${id}`, search: new URLSearchParams({ cluster }).toString() })} />;
  if (trace) return <TraceView trace={trace} cluster={cluster} onLeave={() => openTrace(null)} />;
  return (
    <>
      {onSheet}
      {keeping && <KeepDialog text={asked} title={data ? heading(data) : ""} of={kept} close={() => setKeeping(false)} done={(id) => { setKeeping(false); setSearch((before) => { const next = new URLSearchParams(before); next.set("kept", id); return next; }); }} />}
      <Title about={kept ? <>{same ? "kept" : "changed since it was kept"} as <b>{kept.title}</b>, version {kept.version} by {kept.changedBy}</> : data && (data.shape === "series" ? `${data.series.length} series, one value every ${data.every}` : undefined)}
        actions={<><KeptList onAsk={(one) => { setEditing(false); setSearch((before) => { const next = new URLSearchParams(before); next.set("q", one.text); next.set("kept", one.id); next.delete("trace"); return next; }); }} />{data && <>
          <Button needs="author" isDisabled={same} onPress={() => setKeeping(true)}>{same ? "Kept" : "Keep"}</Button>
          {!editing && <Button data-enquiry onPress={() => setEditing(true)}>Edit</Button>}
          {(data.shape === "series" || data.view !== "traces") && <Button needs="author" onPress={() => setPutting(true)}>Put on a sheet</Button>}
          {data.shape === "series" && <Button needs="author" main onPress={() => navigate({ pathname: "/alarms", search: new URLSearchParams({ cluster, rule: "new", q: asked }).toString() })}>Make an alert rule</Button>}
        </>}</>}>{data ? heading(data) : "What happened?"}</Title>
      {editing ? editor : data ? <Card><Ledger steps={data.steps} notes={data.notes} formatted={data.formatted} onAsk={ask} onCure={(note) => ask(applyCure(asked, note.cure!))} /></Card> : null}
      {answer.error && !error ? <Trouble error={answer.error} /> : null}
      {!asked && <Card style={{ marginTop: 12 }}><Empty title="Ask anything that has arrived" action={<Examples>{examples.map((example) => <Button bare key={example} onPress={() => ask(example.replaceAll(" -> ", "\n  -> "))}>{example}</Button>)}</Examples>}>Begin with logs, spans, flows, events, alarms, arrivals or the name of a metric, or with one of these.</Empty></Card>}
      {data?.shape === "rows" && <RowsResult answer={data} asked={asked} cluster={cluster} scope={view} window={window} busy={answer.isFetching} onAsk={ask} onTrace={openTrace}
        onZoom={(from, to) => setView({ last: null, from, to })} onMore={() => setSize(size * 4)} />}
      {data?.shape === "series" && <Beside>
        <Result aria-busy={answer.isFetching}>
          <div className="head">
            <Heading>{data.series.length === 0 ? "Answer" : unitWord(data.unit) ? unitWord(data.unit)[0]!.toUpperCase() + unitWord(data.unit).slice(1) : "Values"}</Heading>
            <Quiet style={{ flex: 1 }}>{data.series.length === 0 ? "" : `${data.series.length} series${scale.unit ? `, drawn in ${scale.unit}` : ""}${chosen ? "" : "; choose one to see where it comes from"}`}</Quiet>
            <Button bare aria-pressed={shape === "both"} onPress={() => setShape(shape === "both" ? "table" : "both")}>{shape === "both" ? "Table only" : "Chart and table"}</Button>
            <SaveAnswer asked={asked} cluster={cluster} scope={view} window={window} />
            <CopyCsv columns={columns} rows={rows} />
          </div>
          {data.series.length === 0 ? <Empty title="Nothing is left">{data.notes.find((note) => note.kind === "nothing left")?.text ?? "No series has a value in this window."}</Empty> : <>
            {shape === "both" && <div className="chart"><Chart series={data.series} names={names} unit={data.unit} height={236} window={window} label={`${heading(data)}, ${data.series.length} series`} onZoom={(from, to) => setView({ last: null, from, to })} /></div>}
            <Table label="Series" columns={columns} rows={rows} rowKey={(row) => row.name} chosen={chosen} onOpen={(row) => setChosen(chosen === row.name ? null : row.name)} />
          </>}
        </Result>
        {rows.filter((row) => row.name === chosen).slice(0, 1).map((row) => <SeriesDetail key={row.name} name={row.name} labels={row.labels} asked={asked} cluster={cluster} window={window} onAsk={ask} onClose={() => setChosen(null)} />)}
      </Beside>}
    </>
  );
}

const headings: Record<string, string> = { logs: "What was logged", events: "What the cluster reports", spans: "Spans", flows: "What flowed", traces: "Traces", graph: "Who talks to whom", kinds: "Kinds of line", differ: "What differs", alarms: "What alarms did" };
const heading = (answer: Schemas["AskAnswer"]) => (answer.shape === "rows" ? headings[answer.view ?? ""] ?? "Rows" : answer.steps[0]?.text ?? "");
