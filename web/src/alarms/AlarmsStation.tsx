import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Empty, Heading, Mark, Mono, Quiet, Row, Title, Trouble, Waiting } from "../parts/basics";
import { Choose, Switch } from "../parts/fields";
import { withUnit } from "../parts/format";
import { Dialog, Drawer } from "../parts/overlays";
import { Table, type Column } from "../parts/Table";
import { ago, exact, length } from "../parts/time";
import { useCluster } from "../shell/Shell";
import { useNow, useView } from "../shell/view";
import { BudgetPage } from "./BudgetPage";
import { drillWords } from "./drill";
import { AlarmHistory } from "./AlarmHistory";
import { lines, type AlarmLine } from "./groups";
import { RuleEditor } from "./RuleEditor";
import { shippedRunbook } from "./readyMade";
import { ReadyMadeDialog } from "./ReadyMadeDialog";
import { RunbookDialog } from "./RunbookDialog";
import { raisedWhen } from "./sentence";
import { TellingPage } from "./TellingPage";

type Alarm = Schemas["AlarmView"];
type Rule = Schemas["RuleView"];
type Event = Schemas["AlarmEventView"];

const Top = styled.div`display: flex; gap: 12px; flex: 0 1 auto; min-height: 150px; max-height: 52%; @media (max-width: 900px) { flex-direction: column; max-height: none; }`;
const Two = styled.div`display: grid; grid-template-columns: minmax(0, 1.4fr) minmax(0, 1fr); gap: 12px; flex: 1; min-height: 220px; margin-top: 12px; @media (max-width: 900px) { grid-template-columns: 1fr; }`;
const List = styled(Card)`flex: 1; min-width: 0; display: flex; flex-direction: column; min-height: 0;`;
const Head = styled(Row)`padding: 7px 12px; justify-content: space-between; flex: none;`;

const states: Record<Schemas["AlarmState"], string> = { quiet: "quiet", holding: "holding", raised: "raised", clearing: "clearing" };
const which = (labels: Record<string, string>) => Object.entries(labels).filter(([name]) => !(name === "namespace" && Object.keys(labels).length > 1)).map(([, value]) => value).join(" · ");
const shelved = (alarm: Alarm, now: number) => !!alarm.shelvedUntil && Date.parse(alarm.shelvedUntil) > now;

export function AlarmsStation() {
  const cluster = useCluster();
  const [search, setSearch] = useSearchParams();
  const [view] = useView();
  const { now } = useNow();
  const queries = useQueryClient();
  const [open, setOpen] = useState<string | null>(null);
  const [unfolded, setUnfolded] = useState<ReadonlySet<string>>(new Set());
  const [messages, setMessages] = useState(false);
  const [ready, setReady] = useState(false);
  const runbook = search.get("runbook");
  const showRunbook = (name: string | null) => setSearch((before) => { const next = new URLSearchParams(before); if (name) next.set("runbook", name); else next.delete("runbook"); return next; });
  const alarms = useQuery({ queryKey: ["alarms", cluster], enabled: !!cluster, refetchInterval: 5000, queryFn: () => got(api.GET("/api/alarms", { params: { query: { cluster } } })) });
  const rules = useQuery({ queryKey: ["rules", cluster], enabled: !!cluster, refetchInterval: 10_000, queryFn: () => got(api.GET("/api/alert-rules", { params: { query: { cluster } } })) });
  const told = useQuery({ queryKey: ["contacts"], refetchInterval: 10_000, queryFn: () => got(api.GET("/api/contacts")) });
  const edited = search.get("rule");
  const edit = (rule: string | null) => setSearch((before) => { const next = new URLSearchParams(before); if (rule) next.set("rule", rule); else { next.delete("rule"); next.delete("q"); } return next; });
  if (!cluster) return <Card><Empty title="No cluster is connected yet">Alarms are raised from what arrives; connect a cluster first.</Empty></Card>;
  if (alarms.error || rules.error) return <Trouble error={alarms.error ?? rules.error} />;
  if (!alarms.data || !rules.data) return <Waiting what="Reading the alarms" />;
  if (edited === "new") return <RuleEditor key="new" cluster={cluster} rule={null} when={search.get("q") ?? "container.memory.working_set\n  -> max by namespace, pod"} close={() => edit(null)} />;
  if (edited === "told") return <TellingPage close={() => edit(null)} />;
  if (edited === "budget") return <BudgetPage cluster={cluster} close={() => edit(null)} />;
  const editedRule = rules.data.find((rule) => rule.id === edited);
  if (editedRule) return <RuleEditor key={editedRule.id} cluster={cluster} rule={editedRule} when="" close={() => edit(null)} />;

  const inScope = (labels: Record<string, string>) => !view.namespace || !labels.namespace || labels.namespace === view.namespace;
  const list = alarms.data.alarms.filter((alarm) => inScope(alarm.labels as Record<string, string>));
  const raised = list.filter((alarm) => alarm.state === "raised" || alarm.state === "clearing");
  const chosen = list.find((alarm) => alarm.id === open);
  const rows = lines(list, alarms.data.groups, unfolded);
  const columns: Column<AlarmLine>[] = [
    { id: "mark", title: "", width: "28px", cell: ({ group, alarm }) => (alarm ? <Mark level={alarm.state === "holding" ? "clear" : alarm.severity} title={alarm.severity} /> : <Mark level={group.severity} title={group.severity} />) },
    { id: "rule", title: "Alarm", width: "36%", cell: ({ group, alarm }) => (alarm ? <span style={{ paddingLeft: group ? 22 : 0 }}>{alarm.rule}</span> : <b>{unfolded.has(group.title) ? "▾" : "▸"} {group.title}</b>), value: ({ group, alarm }) => (alarm ? alarm.rule : group.title) },
    { id: "which", title: "Which", cell: ({ group, alarm }) => (alarm ? which(alarm.labels as Record<string, string>) : <><b>{group.alarms.length} {group.alarms.length === 1 ? "alarm" : "alarms"}</b>{group.because && `: ${group.because}`}</>), value: ({ group, alarm }) => (alarm ? which(alarm.labels as Record<string, string>) : group.because ?? "") },
    { id: "state", title: "State", width: "104px", cell: ({ alarm }) => (!alarm ? "" : shelved(alarm, now) ? `shelved until ${exact(Date.parse(alarm.shelvedUntil!)).slice(-8, -3)}` : alarm.acknowledgedBy ? `${states[alarm.state]}, seen` : states[alarm.state]), value: ({ alarm }) => (alarm ? states[alarm.state] : "") },
    { id: "since", title: "raised", width: "146px", number: true, cell: ({ group, alarm }) => { const at = alarm ? alarm.raisedAt : group.since; return <span title={at ? exact(Date.parse(at)) : ""}>{at ? ago(Date.parse(at), now) : "not yet"}</span>; }, value: ({ group, alarm }) => { const at = alarm ? alarm.raisedAt : group.since; return at ? Date.parse(at) : 0; } },
    { id: "value", title: "now", width: "98px", number: true, cell: ({ alarm }) => (alarm ? withUnit(alarm.value, alarm.unit) : ""), value: ({ alarm }) => alarm?.value ?? null },
    { id: "worst", title: "worst", width: "98px", number: true, cell: ({ alarm }) => (alarm ? withUnit(alarm.worst, alarm.unit) : ""), value: ({ alarm }) => alarm?.worst ?? null },
  ];
  const press = ({ group, alarm }: AlarmLine) => { if (alarm) setOpen(alarm.id); else setUnfolded((before) => { const next = new Set(before); if (!next.delete(group.title)) next.add(group.title); return next; }); };
  // Beside an open drawer there is room for what tells alarms apart; the drawer has the rest.
  const shown = chosen ? columns.filter((column) => column.id !== "worst" && column.id !== "value") : columns;
  const ruleColumns: Column<Rule>[] = [
    { id: "mark", title: "", width: "28px", cell: (rule) => <Mark level={rule.trouble ? "critical" : rule.raised > 0 ? (rule.document.severity ?? "major") : "clear"} title={rule.trouble ?? (rule.raised > 0 ? `${rule.raised} raised` : "quiet")} /> },
    { id: "rule", title: "Rule", cell: (rule) => rule.document.rule, value: (rule) => rule.document.rule },
    { id: "bound", title: "raised when", width: "104px", number: true, cell: (rule) => raisedWhen(rule.document), value: (rule) => raisedWhen(rule.document) },
    { id: "drill", title: "drilled", width: "132px", number: true, cell: (rule) => <span title={drillWords(rule.drill, now)}>{drillWords(rule.drill, now)}</span>, value: (rule) => (rule.drill ? Date.parse(rule.drill.begunAt) : 0) },
    { id: "judged", title: "judged to", width: "132px", number: true, cell: (rule) => (!rule.inForce ? "a draft" : rule.trouble ? "cannot be" : rule.judgedTo ? ago(Date.parse(rule.judgedTo), now) : "–"), value: (rule) => (rule.judgedTo ? Date.parse(rule.judgedTo) : 0) },
  ];
  const eventColumns: Column<Event>[] = [
    { id: "at", title: "When", width: "132px", cell: (event) => exact(Date.parse(event.at)).slice(4), value: (event) => Date.parse(event.at) },
    { id: "what", title: "What", width: "76px", cell: (event) => event.transition, value: (event) => event.transition },
    { id: "rule", title: "Alarm", cell: (event) => `${event.rule}: ${which(event.labels as Record<string, string>)}`, value: (event) => event.rule },
    { id: "value", title: "at", width: "90px", number: true, cell: (event) => withUnit(event.value, event.unit), value: (event) => event.value },
  ];
  return (
    <>
      <Title about={`${rules.data.filter((rule) => rule.inForce).length} rules in force for ${cluster}`} actions={<>
        <Button onPress={() => setMessages(true)}>Messages</Button>
        <Button onPress={() => edit("told")}>Who is told</Button>
        <Button needs="author" onPress={() => edit("budget")}>Error budget</Button>
        <Button onPress={() => setReady(true)}>Ready-made</Button>
        <Button needs="author" main onPress={() => edit("new")}>New alert rule</Button>
      </>}>{raised.length === 0 ? "Nothing needs a person" : raised.length === 1 ? "One alarm is raised" : `${raised.length} alarms are raised`}</Title>
      {(told.data ?? []).filter((contact) => contact.failingSince).map((contact) => (
        <div key={contact.id} style={{ marginBottom: 10 }}><Trouble error={`${contact.name} cannot be told: nothing is taken since ${exact(Date.parse(contact.failingSince!))} (${contact.lastError}). ${contact.waiting} waiting. See Who is told.`} /></div>
      ))}
      <Top>
        <List>
          {list.length === 0 ? <Empty title="No alarm is raised or holding">{rules.data.length === 0 ? "There are no rules yet. Ask something, then make an alert rule of it." : "Every rule in force was judged quiet. What was raised before stands below."}</Empty>
            : <Table label="Alarms" columns={shown} rows={rows} rowKey={({ group, alarm }) => alarm?.id ?? group!.title} chosen={open} onOpen={press} />}
        </List>
        {chosen && <AlarmDrawer alarm={chosen} close={() => setOpen(null)} />}
      </Top>
      <Two>
        <List>
          <Head><Heading>Alert rules</Heading><Quiet>open one to see what it would have done</Quiet></Head>
          {rules.data.length === 0 ? <Empty title="No rules yet" action={<Button needs="author" main onPress={() => edit("new")}>New alert rule</Button>}>A rule is an enquiry with a bound and a time it must hold.</Empty>
            : <Table label="Alert rules" columns={ruleColumns} rows={rules.data} rowKey={(rule) => rule.id} onOpen={(rule) => edit(rule.id)} />}
          {rules.data.filter((rule) => rule.trouble).map((rule) => <Trouble key={rule.id} error={`${rule.document.rule} cannot be judged: ${rule.trouble}`} />)}
        </List>
        <List>
          <Head><Heading>What happened lately</Heading></Head>
          {alarms.data.events.length === 0 ? <Empty title="Nothing yet">Each time an alarm is raised or cleared, it is recorded here for good.</Empty>
            : <Table label="What happened lately" columns={eventColumns} rows={alarms.data.events.filter((event) => inScope(event.labels as Record<string, string>))} rowKey={(event) => event.id} />}
        </List>
      </Two>
      {ready && <ReadyMadeDialog cluster={cluster} rules={rules.data} close={() => setReady(false)} open={edit} />}
      {runbook && <RunbookDialog name={runbook} close={() => showRunbook(null)} />}
      {messages && <MessagesDialog cluster={cluster} close={() => setMessages(false)} />}
      {rules.data.length > 0 && <RuleActions rules={rules.data} refresh={() => void queries.invalidateQueries({ queryKey: ["rules"] })} />}
    </>
  );
}

function RuleActions({ rules, refresh }: { rules: Rule[]; refresh: () => void }) {
  const [managing, setManaging] = useState(false);
  const [removing, setRemoving] = useState<Rule | null>(null);
  return (
    <Row style={{ marginTop: 8 }}>
      <Button needs="author" bare onPress={() => setManaging(true)}>Switch or remove rules</Button>
      {managing && <Dialog title="Switch or remove rules" width={560} onClose={() => { setManaging(false); setRemoving(null); }}>
        {rules.map((rule) => (
          <Row key={rule.id} style={{ justifyContent: "space-between" }}>
            <Switch on={rule.inForce} onChange={async (on) => { await got(api.POST("/api/alert-rules/{id}/in-force", { params: { path: { id: rule.id } }, body: { inForce: on } })); refresh(); }}>{rule.document.rule}</Switch>
            {removing?.id === rule.id
              ? <Button main onPress={async () => { await got(api.DELETE("/api/alert-rules/{id}", { params: { path: { id: rule.id } } })); setRemoving(null); refresh(); }}>Remove it for good</Button>
              : <Button bare onPress={() => setRemoving(rule)}>Remove</Button>}
          </Row>
        ))}
        <Quiet>A rule that is switched off keeps its wording; its alarms are dropped. Removing cannot be undone; what it raised stays recorded.</Quiet>
      </Dialog>}
    </Row>
  );
}

function AlarmDrawer({ alarm, close }: { alarm: Alarm; close: () => void }) {
  const queries = useQueryClient();
  const { now } = useNow();
  const [error, setError] = useState<unknown>(null);
  const act = async (work: Promise<unknown>) => { try { setError(null); await work; } catch (wrong) { setError(wrong); } void queries.invalidateQueries({ queryKey: ["alarms"] }); };
  const path = { params: { path: { id: alarm.id } } };
  const from = alarm.raisedAt ? Date.parse(alarm.raisedAt) - 900_000 : now - 1_800_000;
  return (
    <Drawer title={alarm.rule} onClose={close}>
      <div><Mark level={alarm.severity} />{alarm.severity}, {states[alarm.state]}{alarm.raisedAt ? ` since ${exact(Date.parse(alarm.raisedAt))}` : ""}</div>
      <h3>Where</h3>
      <dl>{Object.entries(alarm.labels).map(([name, value]) => [<dt key={name}>{name}</dt>, <dd key={name + "v"}>{value}</dd>])}</dl>
      <h3>Figures</h3>
      <dl>
        <dt>now</dt><dd><Mono>{withUnit(alarm.value, alarm.unit)}</Mono></dd>
        <dt>worst</dt><dd><Mono>{withUnit(alarm.worst, alarm.unit)}</Mono></dd>
        {alarm.raisedAt && <><dt>raised for</dt><dd>{length((now - Date.parse(alarm.raisedAt)) / 1000)}</dd></>}
        {alarm.acknowledgedBy && <><dt>acknowledged</dt><dd>{alarm.acknowledgedBy}, {exact(Date.parse(alarm.acknowledgedAt!))}</dd></>}
      </dl>
      <Row $gap={8} $wrap style={{ margin: "14px 0" }}>
        {!alarm.acknowledgedBy && <Button needs="responder" main onPress={() => act(got(api.POST("/api/alarms/{id}/acknowledge", path)))}>Acknowledge</Button>}
        {shelved(alarm, now)
          ? <Button needs="responder" onPress={() => act(got(api.POST("/api/alarms/{id}/shelve", { ...path, body: { until: null } })))}>Take off the shelf</Button>
          : <Choose hideLabel label="Shelve" value="no" onChange={(key) => act(got(api.POST("/api/alarms/{id}/shelve", { ...path, body: { until: new Date(Date.now() + Number(key) * 60_000).toISOString() } })))}
              options={[{ id: "no", text: "Shelve" }, { id: "30", text: "for 30 min" }, { id: "120", text: "for 2 h" }, { id: "480", text: "for 8 h" }]} />}
      </Row>
      {error ? <Trouble error={error} /> : null}
      <div><a href={`/ask?${new URLSearchParams({ cluster: alarm.cluster, q: alarm.when, from: String(from), to: String(now) })}`}>Ask what it watches around that time</a></div>
      <AlarmHistory id={alarm.id} />
      {alarm.runbook && <div>{shippedRunbook(alarm.runbook) ? <Link to={alarm.runbook}>Runbook</Link> : <a href={alarm.runbook} target="_blank" rel="noreferrer">Runbook</a>}</div>}
    </Drawer>
  );
}

function MessagesDialog({ cluster, close }: { cluster: string; close: () => void }) {
  const messages = useQuery({ queryKey: ["messages", cluster], refetchInterval: 3000, queryFn: () => got(api.GET("/api/messages", { params: { query: { cluster } } })) });
  const columns: Column<Schemas["MessageView"]>[] = [
    { id: "at", title: "When", width: "140px", cell: (message) => exact(Date.parse(message.createdAt)), value: (message) => Date.parse(message.createdAt) },
    { id: "what", title: "What", cell: (message) => `${message.rule} ${message.transition}`, value: (message) => message.rule },
    { id: "who", title: "To", width: "190px", cell: (message) => <>{message.contact}{message.team && <Quiet> {message.team}{message.step > 0 ? `, step ${message.step + 1}` : ""}</Quiet>}</>, value: (message) => message.contact },
    { id: "state", title: "State", width: "210px", cell: (message) => (message.deliveredAt ? `delivered, try ${message.attempts}` : message.attempts === 0 && message.waits && Date.parse(message.waits) > Date.now() ? `quiet until ${exact(Date.parse(message.waits)).slice(0, -3)}` : `waiting, try ${message.attempts}${message.lastError ? `: ${message.lastError}` : ""}`), value: (message) => (message.deliveredAt ? "delivered" : "waiting") },
  ];
  return (
    <Dialog title="Messages" width={820} onClose={close}>
      {messages.error ? <Trouble error={messages.error} /> : null}
      {messages.data?.length === 0 ? <Empty title="No message yet">Each message to a contact is listed here, with its tries.</Empty>
        : <Table label="Messages" columns={columns} rows={messages.data ?? []} rowKey={(message) => message.id} />}
    </Dialog>
  );
}
