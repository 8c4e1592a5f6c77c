import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import styled, { useTheme } from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Empty, Heading, Mono, Quiet, Title, Trouble, Waiting } from "../parts/basics";
import { Choose, Switch, TextInput } from "../parts/fields";
import { CatalogueDialog } from "./CatalogueDialog";
import { CostCard } from "./CostCard";
import { Difference } from "./Difference";
import { DestinationsDialog } from "./DestinationsDialog";
import { NamespacesDialog } from "./NamespacesDialog";
import { MachinesDialog } from "./MachinesDialog";
import { OutsideDialog } from "./OutsideDialog";
import { RetentionDialog } from "./RetentionDialog";
import { RevisionsDialog } from "./RevisionsDialog";
import { RemoveDialog } from "./RemoveDialog";
import { RollOutCard } from "./RollOutCard";
import { fromWhere } from "./selection";
import { TrimDialog } from "./TrimDialog";
import { Dialog } from "../parts/overlays";
import { TokensDialog } from "./TokensDialog";
import { exact, length } from "../parts/time";
import { useCluster } from "../shell/Shell";

type Plan = Schemas["CollectionPlan"];
type Metrics = NonNullable<Plan["metrics"]>;

const Signals = styled(Card)`
  display: grid;
  grid-template-columns: 1.75fr 1.1fr 1.1fr 1.1fr;
  > div.whole { grid-column: 1 / -1; border-left: 0; border-top: 1px solid ${({ theme }) => theme.rule}; padding: 4px 14px; display: flex; align-items: center; gap: 6px; }
  > div:not(.whole) { padding: 10px 14px 12px; border-top: 3px solid transparent; }
  > div + div:not(.whole) { border-left: 1px solid ${({ theme }) => theme.rule}; }
  .line { display: flex; align-items: center; justify-content: space-between; min-height: 32px; gap: 8px; flex-wrap: wrap; }
  .sub { display: flex; align-items: center; gap: 6px; margin: 0 0 4px 46px; flex-wrap: wrap; }
  @media (max-width: 1100px) { grid-template-columns: 1fr 1fr; }
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
const Yaml = styled.pre`margin: 0; padding: 12px; max-height: 52vh; overflow: auto; font-size: 12px; line-height: 1.45; background: ${({ theme }) => theme.ground}; border: 1px solid ${({ theme }) => theme.rule};`;

const noMetrics: Metrics = { resourceUsage: false, clusterState: false, endpoints: false, everySeconds: 15, endpointPort: "metrics", endpointPath: "/metrics", namespaces: null, hostMetrics: false, closely: null, rules: null, runtimePath: null, only: null };
const shares = (current: number) => [...new Set([1, 0.5, 0.25, 0.1, 0.01, current])].sort((a, b) => b - a);

export function CollectStation() {
  const cluster = useCluster();
  const theme = useTheme();
  const queries = useQueryClient();
  const collection = useQuery({ queryKey: ["collection", cluster], enabled: !!cluster, refetchInterval: 10_000, queryFn: () => got(api.GET("/api/clusters/{name}/collection", { params: { path: { name: cluster } } })) });
  const [draft, setDraft] = useState<Plan | null>(null);
  const [manifests, setManifests] = useState(false);
  const [catalogue, setCatalogue] = useState(false);
  const [tokens, setTokens] = useState(false);
  const [outside, setOutside] = useState(false);
  const [destinations, setDestinations] = useState(false);
  const [retaining, setRetaining] = useState(false);
  const [machines, setMachines] = useState(false);
  const [removing, setRemoving] = useState(false);
  const kept = useQuery({ queryKey: ["retention"], queryFn: () => got(api.GET("/api/retention")) });
  const [revisions, setRevisions] = useState(false);
  const [search, setSearch] = useSearchParams();
  const trimming = search.has("trim");
  const setTrimming = (on: boolean) => setSearch((before) => { if (on) before.set("trim", "1"); else before.delete("trim"); return before; }, { replace: true });
  const [choosing, setChoosing] = useState<"endpoints" | "logs" | "traces" | null>(null);
  useEffect(() => setDraft(null), [cluster]);
  const sized = useQuery({ queryKey: ["manifests", cluster, draft], enabled: !!cluster && draft !== null, placeholderData: keepPreviousData, queryFn: () => got(api.POST("/api/clusters/{name}/collection/manifests", { params: { path: { name: cluster } }, body: { plan: draft! } })) });
  const rollOut = useMutation({
    mutationFn: (request: Schemas["PlanRequest"]) => got(api.POST("/api/clusters/{name}/collection/roll-out", { params: { path: { name: cluster } }, body: request })),
    onSuccess: () => { setDraft(null); void queries.invalidateQueries(); },
  });
  if (!cluster) return <Card><Empty title="No cluster is connected yet">Connect one under Clusters; then plan here what is collected from it.</Empty></Card>;
  if (collection.isPending) return <Waiting what="Reading the plan" />;
  if (collection.error) return <Trouble error={collection.error} />;
  const view = collection.data;
  const current = view.plan;
  const plan = draft ?? current;
  const { logs, traces, flows } = plan;
  const metrics = plan.metrics ?? noMetrics;
  const changeMetrics = (part: Partial<Metrics>) => { const next = { ...metrics, ...part }; setDraft({ ...plan, metrics: next.resourceUsage || next.clusterState || next.endpoints || next.hostMetrics || next.runtimePath != null ? next : null }); };
  const changeLogs = (part: Partial<NonNullable<Plan["logs"]>>) => { const next = { containers: false, events: false, namespaces: null, leftOut: null, syslog: false, joined: false, only: null, ...logs, ...part }; setDraft({ ...plan, logs: next.containers || next.events || next.syslog ? next : null }); };
  const closely = metrics.closely && Date.parse(metrics.closely.until) > Date.now() ? metrics.closely : null;
  const changed = draft !== null && JSON.stringify(draft) !== JSON.stringify(current);
  // What is under way stands where one looks first.
  const underWay = !!view.rollOut && view.rollOut.state !== "done";
  const rollOutCard = <RollOutCard view={view} goBack={(plan) => rollOut.mutate({ plan, oneFirst: false })} takeOut={() => setRemoving(true)} busy={rollOut.isPending} />;
  return (
    <>
      <Title about={view.revision === 0 ? "nothing is collected yet" : changed ? <span title={`revision ${view.revision} is in force`}>draft of {view.revision + 1}</span> : `revision ${view.revision} is in force`}
        actions={<>
          {changed && <Button onPress={() => setDraft(null)}>Undo changes</Button>}
          {view.revisions.length > 1 && <Button onPress={() => setRevisions(true)}>Revisions</Button>}
          <Button onPress={() => setCatalogue(true)}>Sources</Button>
          {view.revision > 0 && <Button onPress={() => setTrimming(true)}>Trim</Button>}
          <Button needs="keeper" onPress={() => setTokens(true)}>Ingest tokens</Button>
          <Button needs="installer" onPress={() => setManifests(true)}>Manifests</Button>
          {changed && view.revision > 0 && <Button needs="installer" isDisabled={rollOut.isPending} onPress={() => rollOut.mutate({ plan, oneFirst: true })}>One node first</Button>}
          <Button needs="installer" main isDisabled={rollOut.isPending || (!changed && view.revision > 0)} onPress={() => rollOut.mutate({ plan, oneFirst: false })}>{rollOut.isPending ? "Applying" : "Roll out"}</Button>
        </>}>Collection from {cluster}</Title>
      {rollOut.error ? <Trouble error={rollOut.error} /> : null}
      {underWay && rollOutCard}
      <Signals>
        <div style={{ borderTopColor: theme.metrics }}>
          <Heading>Metrics</Heading>
          <div className="line"><Switch on={!!metrics.resourceUsage} onChange={(on) => changeMetrics({ resourceUsage: on })}>Nodes, pods and containers</Switch>
            <Choose label="every" value={String(metrics.everySeconds)} onChange={(key) => changeMetrics({ everySeconds: Number(key) })} options={[5, 10, 15, 30, 60, 300].map((seconds) => ({ id: String(seconds), text: length(seconds) }))} /></div>
          {(metrics.resourceUsage || metrics.endpoints) && <div className="sub">{closely ? <><Quiet>every {length(closely.everySeconds)} until {exact(Date.parse(closely.until))}</Quiet><Button bare onPress={() => changeMetrics({ closely: null })}>No close look</Button></>
            : <Button bare onPress={() => changeMetrics({ closely: { everySeconds: 1, until: new Date(Date.now() + 15 * 60_000).toISOString() } })}>Look closely for 15 min</Button>}</div>}
          <div className="line"><Switch on={!!metrics.hostMetrics} onChange={(on) => changeMetrics({ hostMetrics: on })}>Kernels of the nodes</Switch></div>
          <div className="line"><Switch on={metrics.runtimePath != null} onChange={(on) => changeMetrics({ runtimePath: on ? "metrics/containers" : null })}>Text pages of the runtimes</Switch></div>
          {metrics.runtimePath != null && <div className="sub"><Quiet>path</Quiet><div style={{ width: 168 }}><TextInput hideLabel label="Path of the runtime's page" value={metrics.runtimePath} onChange={(text) => changeMetrics({ runtimePath: text })} /></div></div>}
          <div className="line"><Switch on={!!metrics.clusterState} onChange={(on) => changeMetrics({ clusterState: on })}>State of the cluster</Switch></div>
          <div className="line"><Switch on={!!metrics.endpoints} onChange={(on) => changeMetrics({ endpoints: on })}>Application endpoints</Switch></div>
          {metrics.endpoints && <div className="sub"><Quiet>port</Quiet><div style={{ width: 82 }}><TextInput hideLabel label="Port name" value={metrics.endpointPort ?? ""} onChange={(text) => changeMetrics({ endpointPort: text })} /></div><Quiet>path</Quiet><div style={{ width: 88 }}><TextInput hideLabel label="Path" value={metrics.endpointPath ?? ""} onChange={(text) => changeMetrics({ endpointPath: text })} /></div></div>}
          {metrics.endpoints && <div className="sub"><Quiet>from</Quiet><Button bare onPress={() => setChoosing("endpoints")}>{fromWhere(metrics.namespaces, metrics.only)}</Button></div>}
        </div>
        <div style={{ borderTopColor: theme.logs }}>
          <Heading>Logs</Heading>
          <div className="line"><Switch on={!!logs?.containers} onChange={(on) => changeLogs({ containers: on })}>Lines of containers</Switch></div>
          {logs?.containers && <div className="sub"><Quiet>from</Quiet><Button bare onPress={() => setChoosing("logs")}>{fromWhere(logs.namespaces, logs.only)}</Button></div>}
          {logs?.containers && <div className="line"><Switch on={!!logs.joined} onChange={(on) => changeLogs({ joined: on })}>Stack traces as one</Switch></div>}
          <div className="line"><Switch on={!!logs?.events} onChange={(on) => changeLogs({ events: on })}>Cluster events</Switch></div>
          <div className="line"><Switch on={!!logs?.syslog} onChange={(on) => changeLogs({ syslog: on })}>Syslog of machines</Switch></div>
        </div>
        <div style={{ borderTopColor: theme.traces }}>
          <Heading>Traces</Heading>
          <div className="line"><Switch on={!!traces} onChange={(on) => setDraft({ ...plan, traces: on ? { share: 1, namespaces: null, tail: null, only: null } : null })}>Spans sent to the agents</Switch></div>
          {traces && <div className="sub"><Quiet>from</Quiet><Button bare onPress={() => setChoosing("traces")}>{fromWhere(traces.namespaces, traces.only)}</Button></div>}
          {traces && <div className="line"><Switch on={!!traces.tail} onChange={(on) => setDraft({ ...plan, traces: { ...traces, share: on && traces.share === 1 ? 0.1 : traces.share, tail: on ? { waitSeconds: 10, failed: true, slowerSeconds: 1 } : null } })}>Judged when whole</Switch></div>}
          {traces?.tail && <WholeTraces tail={traces.tail} change={(tail) => setDraft({ ...plan, traces: { ...traces, tail } })} />}
          {traces && <div className="line"><Choose label={traces.tail ? "of the rest" : "traces kept"} value={String(traces.share)} onChange={(key) => setDraft({ ...plan, traces: { ...traces, share: Number(key) } })} options={shares(traces.share).map((share) => ({ id: String(share), text: share === 1 ? "all traces" : `1 in ${Math.round(1 / share)}` }))} /></div>}
        </div>
        <div style={{ borderTopColor: theme.flows }}>
          <Heading>Flows</Heading>
          <div className="line"><Switch on={!!flows} onChange={(on) => setDraft({ ...plan, flows: on ? { outside: null } : null })}>What the nodes see</Switch></div>
          {flows && <div className="line"><Button onPress={() => setOutside(true)}>Names outside{flows.outside && flows.outside.length > 0 ? `, ${flows.outside.length}` : ""}</Button></div>}
        </div>
        <div className="whole"><Quiet>Sent to this server{(plan.destinations ?? []).map((to) => `, ${to.name}`).join("")}</Quiet><Button bare onPress={() => setDestinations(true)}>{plan.destinations?.length ? "Destinations" : "Send it elsewhere too"}</Button><Button bare onPress={() => setMachines(true)}>Machines outside</Button>
          {kept.data && <><Quiet style={{ marginLeft: "auto" }}>kept: metrics {kept.data.metrics} d, logs {kept.data.logs} d, traces {kept.data.traces} d, flows {kept.data.flows} d</Quiet><Button bare onPress={() => setRetaining(true)}>Change</Button></>}</div>
      </Signals>
      {changed && <Difference cluster={cluster} plan={plan} title={view.revision === 0 ? "What it begins" : "What the draft changes"} />}
      <Two>
        <CostCard view={view} size={changed ? sized.data?.size ?? view.size : view.size} draft={changed} />
        <Card className="list">
          <Heading>What the agents may, and what for</Heading>
          {view.rights.map((right) => <div className="line" key={right.need}><span>{right.need}</span><Mono style={{ textAlign: "right" }}>{right.verbs.join(", ")} {right.resources.join(", ")}</Mono></div>)}
          {view.onNodes.map((access) => <div className="line" key={access.what}><span>{access.need}</span><Mono style={{ textAlign: "right" }}>{access.what}</Mono></div>)}
        </Card>
      </Two>
      {!underWay && rollOutCard}
      {trimming && view.revision > 0 && <TrimDialog cluster={cluster} plan={plan} change={setDraft} close={() => setTrimming(false)} />}
      {catalogue && <CatalogueDialog cluster={cluster} close={() => setCatalogue(false)} />}
      {tokens && <TokensDialog cluster={cluster} close={() => setTokens(false)} />}
      {destinations && <DestinationsDialog cluster={cluster} destinations={plan.destinations ?? []} close={() => setDestinations(false)} keep={(list) => { setDraft({ ...plan, destinations: list.length > 0 ? list : null }); setDestinations(false); }} />}
      {outside && flows && <OutsideDialog names={flows.outside ?? []} close={() => setOutside(false)} keep={(names) => { setDraft({ ...plan, flows: { ...flows, outside: names.length > 0 ? names : null } }); setOutside(false); }} />}
      {revisions && <RevisionsDialog cluster={cluster} revisions={view.revisions} close={() => setRevisions(false)} take={(old) => { setDraft(old); setRevisions(false); }} />}
      {choosing && <NamespacesDialog cluster={cluster} what={{ endpoints: "Application endpoints", logs: "Lines of containers", traces: "Spans" }[choosing]} close={() => setChoosing(null)}
        chosen={(choosing === "endpoints" ? metrics.namespaces : choosing === "logs" ? logs?.namespaces : traces?.namespaces) ?? null}
        only={(choosing === "endpoints" ? metrics.only : choosing === "logs" ? logs?.only : traces?.only) ?? null}
        keep={(names, only) => { if (choosing === "endpoints") changeMetrics({ namespaces: names, only }); else if (choosing === "logs") changeLogs({ namespaces: names, only }); else if (traces) setDraft({ ...plan, traces: { ...traces, namespaces: names, only } }); setChoosing(null); }} />}
      {machines && <MachinesDialog cluster={cluster} close={() => setMachines(false)} />}
      {removing && <RemoveDialog cluster={cluster} agents={view.agents.length} close={() => setRemoving(false)} />}
      {retaining && <RetentionDialog close={() => setRetaining(false)} />}
      {manifests && <ManifestsDialog cluster={cluster} plan={plan} close={() => setManifests(false)} />}
    </>
  );
}

type Tail = Schemas["TailPlan"];

/** Which traces are kept whatever the share. */
function WholeTraces({ tail, change }: { tail: Tail; change: (tail: Tail) => void }) {
  const wait = tail.waitSeconds ?? 10;
  return (
    <>
      <div className="sub"><Choose label="after" value={String(wait)} onChange={(key) => change({ ...tail, waitSeconds: Number(key) })} options={[...new Set([5, 10, 30, 60, wait])].sort((a, b) => a - b).map((seconds) => ({ id: String(seconds), text: length(seconds) }))} /></div>
      <div className="sub"><Switch on={tail.failed !== false} onChange={(on) => change({ ...tail, failed: on })}>all that failed</Switch></div>
      <div className="sub"><Choose label="all longer than" value={String(tail.slowerSeconds ?? "")} onChange={(key) => change({ ...tail, slowerSeconds: key === "" ? null : Number(key) })}
        options={[{ id: "", text: "no bound" }, ...[...new Set([0.25, 0.5, 1, 2, 5, ...(tail.slowerSeconds ? [tail.slowerSeconds] : [])])].sort((a, b) => a - b).map((seconds) => ({ id: String(seconds), text: `${seconds} s` }))]} /></div>
    </>
  );
}

function ManifestsDialog({ cluster, plan, close }: { cluster: string; plan: Plan; close: () => void }) {
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
