import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import styled from "styled-components";
import { api, got, Problem, type Schemas } from "../api/client";
import { Button, Card, Empty, Heading, Mono, Quiet, Row, Title, Trouble } from "../parts/basics";
import { Chart } from "../parts/Chart";
import { seriesNames } from "../parts/chartData";
import { Choose, TextInput } from "../parts/fields";
import { withUnit } from "../parts/format";
import { exact, length } from "../parts/time";
import { usualSeries } from "./usual";
import { Table, type Column } from "../parts/Table";
import { useNow } from "../shell/view";
import { DrillDialog } from "./DrillDialog";
import { IncidentDialog } from "./IncidentDialog";
import { emptyDraft, followsUsual, fromDocument, toDocument, type Draft, type Side } from "./sentence";

const Sentence = styled(Card)`
  padding: 12px 16px;
  display: flex;
  flex-wrap: wrap;
  gap: 8px 8px;
  align-items: center;
  > .wide { flex: 1 0 100%; }
  .short { width: 92px; }
  .name { width: 300px; }
  .long { width: 260px; }
`;
const Below = styled.div`display: grid; grid-template-columns: minmax(0, 1fr) 340px; gap: 12px; margin-top: 12px; flex: 1; min-height: 320px;`;
const Part = styled(Card)`padding: 12px 14px; display: flex; flex-direction: column; min-height: 0; overflow: auto; > * { flex: none; } > div[role="region"] { flex: 1 1 auto; min-height: 120px; }
  .line { display: flex; justify-content: space-between; padding: 5px 0; border-bottom: 1px solid ${({ theme }) => theme.rule}; }`;

type Stretch = Schemas["StretchView"];
type Variant = Schemas["VariantView"];
const reaches = [6, 24, 72, 168, 336];
const reachText = (hours: number) => (hours < 48 ? `${hours} h` : `${hours / 24} days`);
// History is looked at even before there is a bound: this one is never passed.
const never = "1000000000000000";

/** A rule as a sentence whose words are fields, with what it would have done below it. */
export function RuleEditor({ cluster, rule, when, close }: { cluster: string; rule: Schemas["RuleView"] | null; when: string; close: () => void }) {
  const [draft, setDraft] = useState<Draft>(() => (rule ? fromDocument(rule.document) : emptyDraft(when)));
  const change = (part: Partial<Draft>) => setDraft((before) => ({ ...before, ...part }));
  const queries = useQueryClient();
  const { now } = useNow();
  const [hours, setHours] = useState(6);
  const [end] = useState(now);
  const window = { from: end - hours * 3_600_000, to: end };
  const [writing, setWriting] = useState(false);
  const [drilling, setDrilling] = useState(false);
  const contacts = useQuery({ queryKey: ["contacts"], queryFn: () => got(api.GET("/api/contacts")) });
  const teams = useQuery({ queryKey: ["teams"], queryFn: () => got(api.GET("/api/teams")) });
  const [tried, setTried] = useState(draft);
  useEffect(() => { const wait = setTimeout(() => setTried(draft), 500); return () => clearTimeout(wait); }, [draft]);
  const usual = followsUsual(draft);
  const unset = !followsUsual(tried) && !tried.bound.trim();
  const document = toDocument(unset ? { ...tried, bound: never, side: "above", clearBound: "" } : tried, cluster);
  const replay = useQuery({
    queryKey: ["replay", document, hours], enabled: !!tried.when.trim(), retry: false, placeholderData: keepPreviousData,
    queryFn: ({ signal }) => got(api.POST("/api/alert-rules/replay", { signal, body: { rule: { ...document, rule: document.rule || "draft" }, from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString(), cluster, utcOffsetMinutes: -new Date().getTimezoneOffset() } })),
  });
  const save = useMutation({
    mutationFn: (inForce: boolean) => (rule
      ? got(api.PUT("/api/alert-rules/{id}", { params: { path: { id: rule.id } }, body: toDocument(draft, cluster) })).then(() => got(api.POST("/api/alert-rules/{id}/in-force", { params: { path: { id: rule.id } }, body: { inForce } })))
      : got(api.POST("/api/alert-rules", { params: { query: { inForce } }, body: toDocument(draft, cluster) }))),
    onSuccess: () => { void queries.invalidateQueries({ queryKey: ["rules"] }); void queries.invalidateQueries({ queryKey: ["alarms"] }); close(); },
  });
  const wrong = [save.error, replay.error].find((error): error is Problem => error instanceof Problem && error.errors.length > 0);
  const mistake = (field: string) => (wrong?.errors as { field: string; message: string }[] | undefined)?.find((one) => one.field === field)?.message;
  const data = replay.error ? undefined : replay.data;
  const names = data ? seriesNames(data.answer.series) : [];
  const columns: Column<Stretch>[] = [
    { id: "from", title: "Raised", width: "150px", cell: (stretch) => exact(Date.parse(stretch.from)), value: (stretch) => Date.parse(stretch.from) },
    { id: "lasted", title: "lasted", width: "124px", number: true, cell: (stretch) => (stretch.to ? length((Date.parse(stretch.to) - Date.parse(stretch.from)) / 1000) : "still raised"), value: (stretch) => (stretch.to ? Date.parse(stretch.to) : window.to) - Date.parse(stretch.from) },
    { id: "worst", title: "worst", width: "110px", number: true, cell: (stretch) => withUnit(stretch.worst, data?.unit ?? ""), value: (stretch) => stretch.worst },
    { id: "which", title: "Which", cell: (stretch) => Object.values(stretch.labels).join(" · "), value: (stretch) => Object.values(stretch.labels).join(" ") },
  ];
  const take = (bound: string, hold: string, side: Side) => change({ ...(followsUsual({ side }) ? { spreads: bound } : { bound }), hold: hold === "0" ? "" : hold, side, clearBound: "" });
  const variants: Column<Variant>[] = [
    { id: "bound", title: data?.usual ? "Spreads" : "Bound", width: "24%", cell: (row) => <>{row.bound}{row.present && <Quiet> now</Quiet>}</>, value: (row) => row.bound },
    { id: "hold", title: "for", width: "13%", cell: (row) => row.hold, value: (row) => row.hold },
    { id: "raised", title: "raised", number: true, width: "21%", cell: (row) => row.raised, value: (row) => row.raised },
    { id: "brief", title: "briefly", number: true, width: "21%", cell: (row) => row.briefly, value: (row) => row.briefly },
    { id: "night", title: "night", number: true, cell: (row) => row.atNight, value: (row) => row.atNight },
    ...(data?.incidents ? [{ id: "missed", title: "missed", number: true, cell: (row: Variant) => <span title={row.missed.join("\n")}>{row.missed.length}</span>, value: (row: Variant) => row.missed.length }] : []),
  ];
  return (
    <>
      <Title about={rule ? (rule.inForce ? "in force" : "a draft") : `a draft for ${cluster}`} actions={<>
        <Button onPress={close}>Leave</Button>
        {rule && <Button onPress={() => setDrilling(true)}>Drill</Button>}
        <Button needs="author" isDisabled={save.isPending || !draft.rule.trim()} onPress={() => save.mutate(false)}>Keep as draft</Button>
        <Button needs="author" main isDisabled={save.isPending || !draft.rule.trim()} onPress={() => save.mutate(true)}>Put in force</Button>
      </>}>{draft.rule || "New alert rule"}</Title>
      {save.error ? <div style={{ marginBottom: 10 }}><Trouble error={save.error} /></div> : null}
      <Sentence role="group" aria-label="The rule">
        <span>Call it</span><div className="name"><TextInput hideLabel label="Name" value={draft.rule} onChange={(text) => change({ rule: text })} mistake={mistake("rule")} placeholder="what is wrong, in words" /></div>
        <span>and raise</span>
        <Choose hideLabel label="Severity" value={draft.severity} onChange={(severity) => change({ severity })} options={[{ id: "critical", text: "◆ critical" }, { id: "major", text: "▲ major" }, { id: "minor", text: "△ minor" }, { id: "warning", text: "○ warning" }]} />
        <span>when</span>
        <div className="wide"><TextInput hideLabel label="Enquiry" rows={Math.min(6, Math.max(2, draft.when.split("\n").length))} value={draft.when} onChange={(text) => change({ when: text })} mistake={mistake("when")} /></div>
        <span>is</span>
        <Choose hideLabel label="Side" value={draft.side} onChange={(side) => change({ side: side as Side })} options={[{ id: "above", text: "above" }, { id: "below", text: "below" }, { id: "high", text: "unusually high" }, { id: "low", text: "unusually low" }, { id: "either", text: "unusual either way" }]} />
        {usual ? <>
          <span>by</span><div className="short"><TextInput hideLabel label="Spreads" value={draft.spreads} onChange={(spreads) => change({ spreads })} mistake={mistake("usual")} /></div>
          <span title="1.4826 times the median distance from the median">spreads, against the same hour of the week in the last</span>
          <Choose hideLabel label="Weeks" value={draft.weeks} onChange={(weeks) => change({ weeks })} options={[2, 3, 4, 6, 8].map((weeks) => ({ id: String(weeks), text: `${weeks} weeks` }))} />
        </> : <>
        <div className="short"><TextInput hideLabel label="Bound" value={draft.bound} onChange={(text) => change({ bound: text })} mistake={mistake("above") ?? mistake("below")} placeholder="400ms" /></div></>}
        <span>for</span><div className="short"><TextInput hideLabel label="Hold" value={draft.hold} onChange={(text) => change({ hold: text })} mistake={mistake("hold")} placeholder="0" /></div>
        {usual ? <span>and clear it when it is usual</span> : <><span>and clear it when {draft.side === "above" ? "below" : "above"}</span><div className="short"><TextInput hideLabel label="Clearing bound" value={draft.clearBound} onChange={(text) => change({ clearBound: text })} placeholder={draft.bound || "the same"} mistake={mistake("clear")} /></div></>}
        <span>for</span><div className="short"><TextInput hideLabel label="Clearing hold" value={draft.clearHold} onChange={(text) => change({ clearHold: text })} placeholder="0" /></div>
        <span>Without data</span>
        <Choose hideLabel label="Without data" value={draft.missing} onChange={(missing) => change({ missing })} options={[{ id: "keep", text: "keep the state" }, { id: "raise", text: "raise" }, { id: "clear", text: "clear" }]} />
        <span>Judge after</span><div className="short"><TextInput hideLabel label="Wait" value={draft.wait} onChange={(text) => change({ wait: text })} placeholder="30s" mistake={mistake("wait")} /></div>
        <span>Tell</span>
        <Choose hideLabel label="Contact" value={draft.tell || "nobody"} onChange={(name) => change({ tell: name === "nobody" ? "" : name })} options={[{ id: "nobody", text: "nobody" }, ...(teams.data ?? []).map((team) => ({ id: team.document.team, text: `${team.document.team}, a team` })), ...(contacts.data ?? []).map((contact) => ({ id: contact.name, text: contact.name }))]} />
        <span>Runbook</span><div className="long"><TextInput hideLabel label="Runbook" value={draft.runbook} onChange={(text) => change({ runbook: text })} placeholder="https://" /></div>
      </Sentence>
      <Below>
        <Part>
          <Row $gap={10} $wrap><Heading>What this rule would have done in the last</Heading><Choose hideLabel label="History" value={String(hours)} onChange={(key) => setHours(Number(key))} options={reaches.map((reach) => ({ id: String(reach), text: reachText(reach) }))} />{replay.isFetching && <Quiet role="status">judging</Quiet>}{data && !unset && <Quiet>raised {data.raised.length} {data.raised.length === 1 ? "time" : "times"}</Quiet>}</Row>
          {replay.error && !wrong ? <Trouble error={replay.error} /> : null}
          {wrong && wrong === replay.error ? <Trouble error={replay.error} /> : null}
          {!tried.when.trim() ? <Empty title="No enquiry yet">Write what the rule watches into the sentence; history shows here what it would have done.</Empty> : data && data.answer.series.length > 0 ? <>
            <Chart series={[...data.answer.series, ...usualSeries(data.usual)]} names={[...names, ...usualSeries(data.usual).map((one) => one.labels.usual!)]} unit={data.unit} height={200} window={window} label="What the rule watches"
              bounds={unset ? [] : [...(data.above !== null ? [{ value: data.above!, text: `raise above ${tried.bound}`, level: "major" as const }] : []), ...(data.below !== null ? [{ value: data.below!, text: `raise below ${tried.bound}`, level: "major" as const }] : [])]}
              shaded={data.raised.map((stretch) => ({ from: Date.parse(stretch.from), to: stretch.to ? Date.parse(stretch.to) : window.to }))} />
            {unset ? <Quiet style={{ padding: 12 }}>There is no bound yet: write one into the sentence, or take the suggested one.</Quiet> : data.raised.length === 0 ? <Quiet style={{ padding: 12 }}>It would not have been raised.</Quiet> : <Table label="Raised stretches" columns={columns} rows={data.raised} rowKey={(stretch) => stretch.from + JSON.stringify(stretch.labels)} />}
          </> : data ? <Empty title="Nothing to judge">The enquiry left no series in the last {reachText(hours)}.</Empty> : null}
        </Part>
        <Part>
          <Heading>Noise</Heading>
          <div className="line"><span>messages a week</span><Mono>{data ? (data.messagesPerWeek >= 10 ? Math.round(data.messagesPerWeek) : data.messagesPerWeek.toFixed(1)) : "–"}</Mono></div>
          <div className="line"><span>cleared within 3 min</span><Mono>{data ? `${data.briefly} of ${data.raised.length}` : "–"}</Mono></div>
          <div className="line"><span>raised at night, 22 to 6</span><Mono>{data ? `${data.atNight} of ${data.raised.length}` : "–"}</Mono></div>
          <div className="line"><span>incidents missed</span><Mono title={data?.missed.join("\n")}>{!data ? "–" : data.incidents === 0 ? "none written up" : `${data.missed.length} of ${data.incidents}`}</Mono></div>
          <div className="line"><span>series watched</span><Mono>{data ? data.answer.series.length : "–"}</Mono></div>
          <p style={{ margin: "6px 0" }}><Quiet>Reckoned from {reachText(hours)} of history, with the code that judges live.</Quiet> <Button bare needs="responder" onPress={() => setWriting(true)}>Write up an incident</Button></p>
          {data?.suggested && <div style={{ margin: "4px 0 8px" }}><Heading>Suggested: {tried.side === "below" && !unset ? "below" : "above"} {data.suggested.bound}{data.suggested.hold === "0" ? "" : ` for ${data.suggested.hold}`}</Heading><Quiet>{data.suggested.why}</Quiet> <Button bare onPress={() => take(data.suggested!.bound, data.suggested!.hold, unset ? "above" : tried.side)}>Take it</Button></div>}
          {data?.usual && <p style={{ margin: "6px 0" }}><Quiet>{data.usual.known === 0 ? "Too little is known yet: what is usual needs this hour of at least two weeks before. Until then nothing is raised." : `What is usual is known of ${data.usual.known} of ${data.answer.series.length} series; the bounds of the first are drawn.`}</Quiet></p>}
          {data && !data.usual && !data.suggested && !replay.isFetching && <p style={{ margin: "6px 0" }}><Quiet>No bound is suggested: there is too little history, or each bound would have spoken too often.</Quiet></p>}
          {data && !unset && data.variants.length > 0 && <><Heading style={{ marginTop: 6 }}>Other bounds and times</Heading><Table label="Other bounds and times" columns={variants} rows={data.variants} rowKey={(row) => `${row.bound} ${row.hold}`} chosen={data.variants.filter((row) => row.present).map((row) => `${row.bound} ${row.hold}`)[0] ?? null} onOpen={(row) => take(row.bound, row.hold, tried.side)} /></>}
        </Part>
      </Below>
      {drilling && rule && <DrillDialog rule={rule} close={() => setDrilling(false)} />}
      {writing && <IncidentDialog cluster={cluster} from={window.from} to={window.to} close={() => setWriting(false)} />}
    </>
  );
}
