import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import styled, { useTheme } from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Empty, Heading, Mark, Quiet, Row, Title, Trouble, Waiting } from "../parts/basics";
import { Switch } from "../parts/fields";
import { whole } from "../parts/format";
import { CopyCsv, Table, type Column } from "../parts/Table";
import { exact, length } from "../parts/time";
import { useCluster } from "../shell/Shell";
import { useNow, useView } from "../shell/view";
import { RawPageDialog } from "./RawPageDialog";

type Source = Schemas["SourceView"];
type State = Schemas["ArrivalState"];

const words: Record<State, string> = { off: "not collected", starting: "starting", onTime: "on time", late: "late", partial: "partial", refused: "refused", silent: "silent" };
const levels: Record<State, Schemas["HealthLevel"]> = { off: "clear", starting: "warning", onTime: "clear", late: "major", partial: "minor", refused: "critical", silent: "critical" };
const order: State[] = ["refused", "silent", "late", "partial", "starting", "onTime", "off"];

const Signals = styled(Card)`
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  > div { padding: 10px 14px; border-top: 3px solid transparent; min-height: 52px; }
  > div + div { border-left: 1px solid ${({ theme }) => theme.rule}; }
  strong { font: 700 18px/1.4 ${({ theme }) => theme.text}; }
`;
const Notices = styled(Card)`
  margin-top: 12px;
  padding: 4px 14px;
  max-height: 132px;
  overflow: auto;
  details + details { border-top: 1px solid ${({ theme }) => theme.rule}; }
  summary { padding: 6px 0; cursor: pointer; }
  p { margin: 0 0 4px 20px; }
  pre { margin: 0 0 8px 20px; font-size: 12px; white-space: pre-wrap; color: ${({ theme }) => theme.ink2}; }
`;
const List = styled(Card)`flex: 1; min-height: 200px; margin-top: 12px; display: flex; flex-direction: column;`;
const Detail = styled(Card)`
  margin-top: 12px;
  display: grid;
  grid-template-columns: 1.2fr 1fr;
  > div { padding: 12px 16px; min-width: 0; }
  > div + div { border-left: 1px solid ${({ theme }) => theme.rule}; }
  p { margin: 4px 0 8px; }
  pre { margin: 0; font-size: 12px; white-space: pre-wrap; overflow-wrap: anywhere; color: ${({ theme }) => theme.ink2}; }
`;

const sourceKey = (source: Source) => `${source.signal} ${source.source}`;
const seen = (source: Source, now: number) => (source.lastSeen ? length(Math.max(0, now - Date.parse(source.lastSeen)) / 1000) : "never");

export function ArrivalsStation() {
  const cluster = useCluster();
  const theme = useTheme();
  const [view] = useView();
  const { now, tick } = useNow();
  const queries = useQueryClient();
  const arrivals = useQuery({ queryKey: ["arrivals", cluster], enabled: !!cluster, refetchInterval: 5000, queryFn: () => got(api.GET("/api/arrivals", { params: { query: { cluster } } })) });
  const [trouble, setTrouble] = useState(false);
  const [open, setOpen] = useState<string | null>(null);
  if (!cluster) return <Card><Empty title="No cluster is connected yet">Connect one under Clusters; then see here whether everything arrives that should.</Empty></Card>;
  if (arrivals.isPending) return <Waiting what="Judging the sources" />;
  if (arrivals.error) return <Trouble error={arrivals.error} />;
  const shownAt = Math.max(now, arrivals.dataUpdatedAt);
  const all = arrivals.data.sources.filter((source) => !view.namespace || source.namespace === view.namespace || source.namespace === null).filter((source) => !view.workload || source.source.includes(`/${view.workload}-`) || source.namespace === null);
  const sources = all.filter((source) => !trouble || !["onTime", "off", "starting"].includes(source.state)).sort((a, b) => order.indexOf(a.state) - order.indexOf(b.state) || signals.indexOf(a.signal as "logs") - signals.indexOf(b.signal as "logs") || a.source.localeCompare(b.source));
  const onTime = all.filter((source) => source.state === "onTime").length;
  const chosen = sources.find((source) => sourceKey(source) === open) ?? sources.find((source) => source.cause) ?? null;
  const columns: Column<Source>[] = [
    { id: "mark", title: "", width: "28px", cell: (source) => <Mark level={levels[source.state]} title={words[source.state]} /> },
    { id: "signal", title: "Signal", width: "76px", cell: (source) => <span style={{ color: theme[source.signal as "metrics"], fontWeight: 600 }}>{source.signal}</span>, value: (source) => source.signal },
    { id: "source", title: "Source", width: "30%", cell: (source) => source.source.replace(/:(\d+)$/, " :$1"), value: (source) => source.source },
    { id: "by", title: "Sent by", width: "130px", cell: (source) => source.sentBy, value: (source) => source.sentBy },
    { id: "state", title: "State", width: "80px", cell: (source) => words[source.state], value: (source) => order.indexOf(source.state) },
    { id: "seen", title: "last seen", width: "110px", number: true, cell: (source) => <span title={source.lastSeen ? exact(Date.parse(source.lastSeen)) : ""}>{seen(source, shownAt)}</span>, value: (source) => (source.lastSeen ? -Date.parse(source.lastSeen) : 0) },
    { id: "hour", title: "last hour, min", width: "120px", number: true, cell: (source) => `${source.received} of ${source.expected}`, value: (source) => source.received },
    { id: "cause", title: "What is wrong", cell: (source) => source.cause ?? "", value: (source) => source.cause ?? "" },
  ];
  return (
    <>
      <Title about={all.length > 0 ? `${all.length} sources expected, ${onTime} on time` : undefined} actions={<><CopyCsv columns={columns} rows={sources} /><Button main onPress={() => { tick(); void queries.invalidateQueries({ queryKey: ["arrivals"] }); }}>Check again</Button></>}>What has arrived from {cluster}</Title>
      {!arrivals.data.collected ? <Card><Empty title={`Nothing is collected from ${cluster} yet`} action={<Link to={{ pathname: "/collect", search: `cluster=${cluster}` }}>Plan what to collect</Link>}>Once a plan is rolled out, every source it leads to stands here with when it was last seen.</Empty></Card> : <>
        <Signals>
          {signals.map((signal) => {
            const own = all.filter((source) => source.signal === signal);
            const good = own.filter((source) => source.state === "onTime").length;
            return (
              <div key={signal} style={{ borderTopColor: theme[signal] }}>
                <Row style={{ justifyContent: "space-between" }}><Heading>{signal[0]!.toUpperCase() + signal.slice(1)}</Heading>{own.length > 0 && tally(own)}</Row>
                {own.length === 0 ? <Quiet>{view.namespace ? "no source in this scope" : "not collected"}</Quiet>
                  : <><strong>{good} of {own.length}</strong> <Quiet title="minutes of the last hour that have data">on time, {percent(own)} of the hour</Quiet></>}
              </div>
            );
          })}
        </Signals>
        {arrivals.data.troubles.length > 0 && <Notices aria-label="What is wrong though it arrives">{arrivals.data.troubles.map((trouble) => (
          <details key={trouble.short}>
            <summary><Mark level="minor" /> <b>{trouble.short}</b> <Quiet>{trouble.fix}</Quiet>{trouble.place === "trimming" && <> <Link to={{ pathname: "/collect", search: `cluster=${cluster}&trim=1` }}>Trim it</Link></>}{trouble.place === "plan" && <> <Link to={{ pathname: "/collect", search: `cluster=${cluster}` }}>See the roll-out</Link></>}</summary>
            <p>{trouble.text}</p><pre>{trouble.proof.join("\n")}</pre>
          </details>))}</Notices>}
        <List>
          <Row style={{ padding: "6px 12px", justifyContent: "space-between" }}><b>Expected sources</b><Switch on={trouble} onChange={setTrouble}>Only trouble</Switch></Row>
          {sources.length === 0 ? <Empty title={trouble ? "No source is in trouble here" : "No sources here"}>{trouble ? "Everything in this scope arrives as it should." : "No plan leads to a source in this scope."}</Empty>
            : <Table label="Expected sources" columns={columns} rows={sources} rowKey={sourceKey} chosen={chosen ? sourceKey(chosen) : null} onOpen={(source) => setOpen(sourceKey(source))} />}
        </List>
        {chosen && <SourceDetail source={chosen} cluster={cluster} now={shownAt} />}
      </>}
    </>
  );
}

/** Whether a source is an application's endpoint, which has a page to look at. */
const hasPage = (source: Source) => source.signal === "metrics" && (/^[^/]+\/[^/]+:\d+$/.test(source.source) || source.source.startsWith("runtime/"));

const signals = ["metrics", "logs", "traces", "flows"] as const;

/** Minutes of the last hour with data, of those that should have some. */
function percent(sources: Source[]) {
  const [received, expected] = [sources.reduce((minutes, source) => minutes + source.received, 0), sources.reduce((minutes, source) => minutes + source.expected, 0)];
  return expected === 0 ? "–" : `${received < expected ? Math.min(99.9, Math.floor((received / expected) * 1000) / 10) : 100} %`;
}

function tally(sources: Source[]) {
  const counts = order.filter((state) => !["onTime", "off"].includes(state)).map((state) => [state, sources.filter((source) => source.state === state).length] as const).filter(([, count]) => count > 0);
  return counts.length === 0 ? <Quiet>on time</Quiet> : <Quiet>{counts.map(([state, count]) => <span key={state} style={{ marginLeft: 8 }}><Mark level={levels[state]} />{count} {words[state]}</span>)}</Quiet>;
}

function SourceDetail({ source, cluster, now }: { source: Source; cluster: string; now: number }) {
  const queries = useQueryClient();
  const cure = useMutation({
    mutationFn: () => got(api.POST("/api/arrivals/cure", { body: { cluster, act: source.act } })),
    onSuccess: () => { void queries.invalidateQueries(); },
  });
  const [page, setPage] = useState(false);
  return (
    <Detail aria-label="Cause and fix">
      {page && <RawPageDialog cluster={cluster} source={source} close={() => setPage(false)} />}
      <div>
        <Heading>{source.source}: {words[source.state]}{source.cause ? `, ${source.cause}` : ""}</Heading>
        {source.explanation ? <><p>{source.explanation}</p><p><Quiet>{source.fix}</Quiet></p></>
          : <p><Quiet>{source.signal === "metrics" ? `Read every ${length(source.intervalSeconds)} by the ${source.sentBy}` : `Sent by ${source.sentBy}; complete where its agent reports each minute, even if it was quiet`}; last seen {seen(source, now)} ago, {source.received} of {source.expected} minutes of the last hour.</Quiet></p>}
        {source.act !== "none" && <Button needs="installer" main isDisabled={cure.isPending} onPress={() => cure.mutate()}>{cure.isPending ? "Working" : source.act === "handOutToken" ? "Hand out a new token" : "Apply the plan again"}</Button>}
        {cure.data && <p role="status">Done: {cure.data.applied.length} objects applied. It takes effect within a minute.</p>}
        {cure.error ? <Trouble error={cure.error} /> : null}
      </div>
      <div>
        <Row style={{ justifyContent: "space-between" }}><Heading>Evidence</Heading>{hasPage(source) && <Button onPress={() => setPage(true)}>Last raw page</Button>}</Row>
        <pre>{[...source.proof, source.lastSeen ? `${exact(Date.parse(source.lastSeen))} received last` : "nothing received yet",
          source.report ? `${exact(Date.parse(source.report.at))} the agent: ${whole(source.report.read)} read, ${whole(source.report.sent)} sent, ${whole(source.report.dropped)} dropped${source.report.error ? `; ${source.report.error}` : ""}` : "no status record from the agent yet"].join("\n")}</pre>
      </div>
    </Detail>
  );
}
