import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import styled, { useTheme } from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Empty, Heading, Mark, Quiet, Row, Title, Trouble } from "../parts/basics";
import { Chart } from "../parts/Chart";
import { Choose, TextInput } from "../parts/fields";
import { digits, whole } from "../parts/format";
import { Table, type Column } from "../parts/Table";
import { exact } from "../parts/time";
import { useNow } from "../shell/view";

type Document = Schemas["RuleDocument"];

const Sentence = styled(Card)`
  padding: 12px 16px;
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  .name { width: 260px; }
  .condition { flex: 1 1 320px; }
  .short { width: 84px; }
`;
const Figures = styled(Card)`
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  margin: 12px 0;
  > div { padding: 10px 16px; }
  > div + div { border-left: 1px solid ${({ theme }) => theme.rule}; }
  strong { display: block; font: 700 22px/1.3 ${({ theme }) => theme.text}; font-variant-numeric: tabular-nums; }
  @media (max-width: 800px) { grid-template-columns: 1fr 1fr; }
`;

const percent = (share: number | null | undefined) => (share == null ? "–" : `${digits(share * 100)} %`);

/** A promise about requests: how much of its error budget is left, and the rules that guard it. */
export function BudgetPage({ cluster, close }: { cluster: string; close: () => void }) {
  const theme = useTheme();
  const { now } = useNow();
  const [end] = useState(now);
  const queries = useQueryClient();
  const [draft, setDraft] = useState({ name: "", which: 'service = "ledger" and kind = "server"', bad: 'status = "error"', good: "99.5", days: 28, tell: "" });
  const change = (part: Partial<typeof draft>) => setDraft((before) => ({ ...before, ...part }));
  const [tried, setTried] = useState(draft);
  useEffect(() => { const wait = setTimeout(() => setTried(draft), 600); return () => clearTimeout(wait); }, [draft]);
  const contacts = useQuery({ queryKey: ["contacts"], queryFn: () => got(api.GET("/api/contacts")) });
  const body = { objective: { name: tried.name.trim() || "Promise", which: tried.which, bad: tried.bad, share: Number(tried.good.replace(",", ".")) / 100, days: tried.days }, cluster, tell: tried.tell ? [tried.tell] : null };
  const budget = useQuery({ queryKey: ["budget", body], placeholderData: keepPreviousData, retry: false, queryFn: ({ signal }) => got(api.POST("/api/alert-rules/budget", { signal, body })) });
  const keep = useMutation({
    mutationFn: async (inForce: boolean) => { for (const rule of budget.data!.rules) await got(api.POST("/api/alert-rules", { params: { query: { inForce } }, body: rule })); },
    onSuccess: () => { void queries.invalidateQueries({ queryKey: ["rules"] }); close(); },
  });
  const view = budget.error ? undefined : budget.data;
  // Where there is less data than the period is long, the chart begins with the data.
  const window = { from: Math.max(end - tried.days * 86_400_000, view?.since ? Date.parse(view.since) : 0), to: end };
  const rules: Column<Document>[] = [
    { id: "mark", title: "", width: "28px", cell: (rule) => <Mark level={rule.severity ?? "major"} title={rule.severity ?? ""} /> },
    { id: "rule", title: "Rule", width: "52%", cell: (rule) => rule.rule, value: (rule) => rule.rule },
    { id: "bound", title: "raised when the budget burns", cell: (rule) => `${digits(Number(rule.above))} times as fast as is sustainable`, value: (rule) => Number(rule.above) },
  ];
  const left = view?.left ?? null;
  const level = left === null ? "clear" : left <= 0 ? "critical" : left < 0.25 ? "major" : "clear";
  return (
    <>
      <Title about={`an error budget of ${cluster}`} actions={<>
        <Button onPress={close}>Leave</Button>
        <Button needs="author" isDisabled={!view || !draft.name.trim() || keep.isPending} onPress={() => keep.mutate(false)}>Keep as drafts</Button>
        <Button needs="author" main isDisabled={!view || !draft.name.trim() || keep.isPending} onPress={() => keep.mutate(true)}>Put its rules in force</Button>
      </>}>{draft.name || "New error budget"}</Title>
      {keep.error ? <Trouble error={keep.error} /> : null}
      <Sentence role="group" aria-label="The promise">
        <span>Call it</span><div className="name"><TextInput hideLabel label="Name" value={draft.name} onChange={(name) => change({ name })} placeholder="what is promised, in words" /></div>
        <span>of the spans with</span><div className="condition"><TextInput hideLabel label="Which requests count" value={draft.which} onChange={(which) => change({ which })} /></div>
        <div className="short"><TextInput hideLabel label="Share that must be good" value={draft.good} onChange={(good) => change({ good })} /></div><span>% must not have</span>
        <div className="condition"><TextInput hideLabel label="Which of them are bad" value={draft.bad} onChange={(bad) => change({ bad })} /></div>
        <span>over</span><Choose hideLabel label="Period" value={String(draft.days)} onChange={(days) => change({ days: Number(days) })} options={[7, 14, 28, 30, 90].map((days) => ({ id: String(days), text: `${days} days` }))} />
        <span>Tell</span><Choose hideLabel label="Contact" value={draft.tell || "nobody"} onChange={(tell) => change({ tell: tell === "nobody" ? "" : tell })} options={[{ id: "nobody", text: "nobody" }, ...(contacts.data ?? []).map((contact) => ({ id: contact.name, text: contact.name }))]} />
        {budget.isFetching && <Quiet role="status">reckoning</Quiet>}
      </Sentence>
      {budget.error ? <Trouble error={budget.error} /> : null}
      {view && <>
        <Figures>
          <div><Quiet>of the budget is left</Quiet><strong><Mark level={level} /> {percent(left)}</strong></div>
          <div><Quiet>bad, of {whole(view.counted)} counted</Quiet><strong>{whole(view.bad)}</strong></div>
          <div><Quiet>burns now, times sustainable</Quiet><strong>{view.burn == null ? "–" : digits(view.burn)}</strong></div>
          <div><Quiet>days until it is empty</Quiet><strong>{left !== null && left <= 0 ? "empty" : view.daysToEmpty == null ? "never, at this pace" : view.daysToEmpty > 365 ? "over a year" : digits(view.daysToEmpty)}</strong></div>
        </Figures>
        <Card style={{ padding: "10px 14px" }}>
          <Row style={{ justifyContent: "space-between" }}><Heading>What was left after each hour</Heading><Quiet>{view.since ? `from spans since ${exact(Date.parse(view.since))}; the budget is that of the requests counted` : ""}</Quiet></Row>
          {view.counted === 0 ? <Empty title="Nothing is counted">No span in these {tried.days} days fits the first condition. Try it under Ask: spans -&gt; where {tried.which}</Empty>
            : <Chart series={[{ labels: {}, points: view.course as Schemas["SeriesView"]["points"] }]} names={["left"]} unit="1" height={170} window={window} draw="area" label="Error budget left" bounds={[{ value: 0, text: "empty", level: "major" }]} colours={[theme.metrics]} />}
        </Card>
        <Card style={{ marginTop: 12, display: "flex", flexDirection: "column", flex: 1, minHeight: 150 }}>
          <Row style={{ padding: "8px 14px", justifyContent: "space-between" }}><Heading>Rules that guard it</Heading><Quiet>each over a long and a short window, so that it speaks soon and is quiet soon</Quiet></Row>
          <Table label="Rules of the budget" columns={rules} rows={view.rules} rowKey={(rule) => rule.rule} />
        </Card>
      </>}
    </>
  );
}
