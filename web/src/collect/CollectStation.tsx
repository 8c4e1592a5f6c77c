import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import styled, { useTheme } from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Empty, Heading, Mark, Mono, Quiet, Row, Title, Trouble, Waiting } from "../parts/basics";
import { Choose, Switch, TextInput } from "../parts/fields";
import { digits, whole } from "../parts/format";
import { Dialog } from "../parts/overlays";
import { TokensDialog } from "./TokensDialog";
import { exact, length } from "../parts/time";
import { useCluster } from "../shell/Shell";

type Metrics = NonNullable<Schemas["CollectionPlan"]["metrics"]>;
type Stage = Schemas["RollOutStage"];

const Signals = styled(Card)`
  display: grid;
  grid-template-columns: 3.6fr 1fr 1fr 1fr;
  > div { padding: 10px 14px 12px; border-top: 3px solid transparent; }
  > div + div { border-left: 1px solid ${({ theme }) => theme.rule}; }
  .line { display: flex; align-items: center; justify-content: space-between; min-height: 32px; gap: 12px; }
`;
const Two = styled.div`
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 12px;
  margin: 12px 0;
  .list { padding: 10px 14px; }
  .line { display: flex; justify-content: space-between; gap: 12px; padding: 4px 0; border-top: 1px solid ${({ theme }) => theme.rule}; }
  .line:first-of-type { margin-top: 6px; }
`;
const Agents = styled.div`
  display: grid;
  grid-template-columns: 120px 220px 1fr;
  gap: 4px 14px;
  padding: 8px 14px 12px;
  align-items: center;
`;
const Yaml = styled.pre`margin: 0; padding: 12px; max-height: 52vh; overflow: auto; font-size: 12px; line-height: 1.45; background: ${({ theme }) => theme.ground}; border: 1px solid ${({ theme }) => theme.rule};`;

const stages: Stage[] = ["waiting", "starting", "ready"];
const stageWords: Record<Stage, string> = { waiting: "waiting for its turn", starting: "starting", ready: "ready", stuck: "stuck" };

function StageBar({ stage }: { stage: Stage }) {
  const theme = useTheme();
  const reached = stage === "stuck" ? 1 : stages.indexOf(stage);
  const colours = [theme.ink2, theme.logs, stage === "stuck" ? theme.critical : theme.clear];
  return <svg width="100%" height="12" role="img" aria-label={stageWords[stage]}>{[0, 1, 2].map((i) => <rect key={i} x={`${i * 33.4}%`} width="32.6%" height={12} fill={i <= reached ? colours[stage === "stuck" ? 2 : i] : theme.sunk} />)}</svg>;
}

export function CollectStation() {
  const cluster = useCluster();
  const theme = useTheme();
  const queries = useQueryClient();
  const collection = useQuery({ queryKey: ["collection", cluster], enabled: !!cluster, refetchInterval: 10_000, queryFn: () => got(api.GET("/api/clusters/{name}/collection", { params: { path: { name: cluster } } })) });
  const [draft, setDraft] = useState<Metrics | null>(null);
  const [manifests, setManifests] = useState(false);
  const [tokens, setTokens] = useState(false);
  useEffect(() => setDraft(null), [cluster]);
  const rollOut = useMutation({
    mutationFn: (metrics: Metrics) => got(api.POST("/api/clusters/{name}/collection/roll-out", { params: { path: { name: cluster } }, body: { plan: { metrics } } })),
    onSuccess: () => { setDraft(null); void queries.invalidateQueries(); },
  });
  if (!cluster) return <Card><Empty title="No cluster is connected yet">Connect one under Clusters; then plan here what is collected from it.</Empty></Card>;
  if (collection.isPending) return <Waiting what="Reading the plan" />;
  if (collection.error) return <Trouble error={collection.error} />;
  const view = collection.data;
  const current = view.plan.metrics as Metrics;
  const plan = draft ?? current;
  const change = (part: Partial<Metrics>) => setDraft({ ...plan, ...part });
  const changed = draft !== null && JSON.stringify(draft) !== JSON.stringify(current);
  const ready = view.agents.filter((agent) => agent.stage === "ready").length;
  const revision = view.revisions[0];
  return (
    <>
      <Title about={view.revision === 0 ? "nothing is collected yet" : changed ? `draft of revision ${view.revision + 1}, revision ${view.revision} is in force` : `revision ${view.revision} is in force`}
        actions={<>
          {changed && <Button onPress={() => setDraft(null)}>Undo changes</Button>}
          <Button onPress={() => setTokens(true)}>Ingest tokens</Button>
          <Button onPress={() => setManifests(true)}>Manifests</Button>
          <Button main isDisabled={rollOut.isPending || (!changed && view.revision > 0)} onPress={() => rollOut.mutate(plan)}>{rollOut.isPending ? "Applying" : "Roll out"}</Button>
        </>}>Collection from {cluster}</Title>
      {rollOut.error ? <Trouble error={rollOut.error} /> : null}
      <Signals>
        <div style={{ borderTopColor: theme.metrics }}>
          <Heading>Metrics</Heading>
          <div className="line"><Switch on={!!plan.resourceUsage} onChange={(on) => change({ resourceUsage: on })}>Usage of nodes, pods and containers</Switch>
            <Choose label="every" value={String(plan.everySeconds)} onChange={(key) => change({ everySeconds: Number(key) })} options={[5, 10, 15, 30, 60, 300].map((seconds) => ({ id: String(seconds), text: length(seconds) }))} /></div>
          <div className="line"><Switch on={!!plan.clusterState} onChange={(on) => change({ clusterState: on })}>State of nodes, pods and workloads</Switch></div>
          <div className="line"><Switch on={!!plan.endpoints} onChange={(on) => change({ endpoints: on })}>Application endpoints</Switch>
            {plan.endpoints && <Row $gap={6}><Quiet>port named</Quiet><div style={{ width: 86 }}><TextInput hideLabel label="Port name" value={plan.endpointPort ?? ""} onChange={(text) => change({ endpointPort: text })} /></div><Quiet>path</Quiet><div style={{ width: 100 }}><TextInput hideLabel label="Path" value={plan.endpointPath ?? ""} onChange={(text) => change({ endpointPath: text })} /></div></Row>}</div>
        </div>
        {(["logs", "traces", "flows"] as const).map((signal) => (
          <div key={signal} style={{ borderTopColor: theme[signal] }}><Heading>{signal[0]!.toUpperCase() + signal.slice(1)}</Heading><Quiet>Not collected. This version collects metrics.</Quiet></div>
        ))}
      </Signals>
      <Two>
        <Card className="list">
          <Heading>What it costs, measured over 5 min</Heading>
          <div className="line"><span>series</span><Mono>{whole(view.measured.series)}</Mono></div>
          <div className="line"><span>samples a second</span><Mono>{digits(view.measured.samplesPerSecond)}</Mono></div>
          <div className="line"><span>agents, processor in all</span><Mono>{view.measured.agentCores == null ? "–" : `${digits(view.measured.agentCores)} cores`}</Mono></div>
          <div className="line"><span>agents send to</span><Mono>{view.serverAddress}</Mono></div>
        </Card>
        <Card className="list">
          <Heading>Rights the agent gets, and what for</Heading>
          {view.rights.map((right) => <div className="line" key={right.need}><span>{right.need}</span><Mono style={{ textAlign: "right" }}>{right.verbs.join(", ")} {right.resources.join(", ")}</Mono></div>)}
        </Card>
      </Two>
      <Card style={{ flex: 1, minHeight: 190 }}>
        <Row style={{ padding: "10px 14px 0", justifyContent: "space-between" }}>
          <Heading>{view.revision === 0 ? "Roll-out" : `Roll-out of revision ${view.revision}`}</Heading>
          <Quiet>{revision?.appliedAt ? `by ${revision.createdBy}, ${exact(Date.parse(revision.appliedAt))}; ${ready} of ${view.agents.length} agents ready` : revision ? "not all objects were applied; roll out again" : ""}</Quiet>
        </Row>
        {view.revision === 0 ? <Empty title="Nothing is rolled out yet">Choose what to collect, look at the manifests, then roll out. Each agent will be followed here until it is ready.</Empty> : (
          <Agents role="status">
            {view.agents.map((agent) => [
              <span key={agent.place}><Mark level={agent.stage === "ready" ? "clear" : agent.stage === "stuck" ? "critical" : "warning"} title={stageWords[agent.stage]} />{agent.place}</span>,
              <StageBar key={agent.place + "bar"} stage={agent.stage} />,
              <Quiet key={agent.place + "why"}>{agent.why ?? `${agent.pod} ${stageWords[agent.stage]}`.trim()}</Quiet>,
            ])}
          </Agents>
        )}
      </Card>
      {tokens && <TokensDialog cluster={cluster} close={() => setTokens(false)} />}
      {manifests && <ManifestsDialog cluster={cluster} plan={{ metrics: plan }} close={() => setManifests(false)} />}
    </>
  );
}

function ManifestsDialog({ cluster, plan, close }: { cluster: string; plan: Schemas["CollectionPlan"]; close: () => void }) {
  const manifests = useQuery({ queryKey: ["manifests", cluster, plan], queryFn: () => got(api.POST("/api/clusters/{name}/collection/manifests", { params: { path: { name: cluster } }, body: { plan } })) });
  const [copied, setCopied] = useState(false);
  return (
    <Dialog title={manifests.data ? `Manifests of revision ${manifests.data.revision}` : "Manifests"} width={820} onClose={close} actions={manifests.data && <>
      <Button onPress={() => { const link = document.createElement("a"); link.href = URL.createObjectURL(new Blob([manifests.data.yaml], { type: "application/yaml" })); link.download = `skevin-${cluster}-${manifests.data.revision}.yaml`; link.click(); }}>Save as file</Button>
      <Button main onPress={async () => { await navigator.clipboard.writeText(manifests.data.yaml); setCopied(true); }}>{copied ? "Copied" : "Copy"}</Button>
    </>}>
      <Quiet>What a roll-out applies. The secret skevin-ingest with the token is made at the roll-out and never shown.</Quiet>
      {manifests.error ? <Trouble error={manifests.error} /> : null}
      {manifests.data?.problems.map((problem) => <Trouble key={problem} error={problem} />)}
      {manifests.data ? <Yaml tabIndex={0}>{manifests.data.yaml}</Yaml> : null}
    </Dialog>
  );
}
