import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Empty, Mark, Quiet, Row, Title, Trouble, Waiting } from "../parts/basics";
import { Switch } from "../parts/fields";
import { Dialog, Drawer } from "../parts/overlays";
import { CopyCsv, Table, type Column } from "../parts/Table";
import { withUnit } from "../parts/format";
import { ago, exact } from "../parts/time";
import { useCluster } from "../shell/Shell";
import { useClusters, useInventory } from "../shell/ScopeTree";
import { useNow, useView } from "../shell/view";
import { DisconnectDialog } from "./DisconnectDialog";
import { ConnectDialog } from "./ConnectDialog";
import { NodeRules } from "./NodeRules";
import { OrderDialog } from "./OrderDialog";
import { Building, OrderView, useOrders } from "./Orders";
import { ProbeDialog } from "./ProbeDialog";
import { lists, ObjectLists, type ListName } from "./ObjectLists";

type Pod = Schemas["PodView"];

const Below = styled.div`flex: 1; min-height: 240px; display: flex; gap: 12px; margin-top: 12px;`;
const List = styled(Card)`flex: 1; min-width: 0; display: flex; flex-direction: column;`;
const Views = styled(Row)`gap: 2px; flex-wrap: wrap; button { padding: 4px 8px; color: ${({ theme }) => theme.ink2}; } button[aria-pressed="true"] { color: ${({ theme }) => theme.ink}; font-weight: 700; box-shadow: inset 0 -2px 0 ${({ theme }) => theme.act}; border-radius: 0; }`;
const Head = styled(Row)`padding: 6px 12px; justify-content: space-between; b { font-size: 13px; }`;

/** What nodes use now, from what has arrived. */
function useNodeUse(cluster: string) {
  const { now } = useNow();
  const ask = async (text: string) => got(api.POST("/api/ask", { body: { text, from: new Date(now - 120_000).toISOString(), to: new Date(now).toISOString(), cluster } })).catch(() => null);
  const answers = useQuery({
    queryKey: ["node-use", cluster, now], enabled: !!cluster, placeholderData: keepPreviousData,
    queryFn: async () => Promise.all([ask("k8s.node.cpu.time -> rate every 30s -> sum by node"), ask("k8s.node.memory.working_set -> sum by node every 30s")]),
  });
  const use = new Map<string, { cores: number | null; memory: number | null }>();
  const last = (series: Schemas["SeriesView"]) => series.points.reduce<number | null>((found, [, value]) => value ?? found, null);
  answers.data?.forEach((answer, i) => answer?.series.forEach((series) => {
    const node = series.labels.node ?? "";
    use.set(node, { cores: null, memory: null, ...use.get(node), [i === 0 ? "cores" : "memory"]: last(series) });
  }));
  return use;
}

const columns = (now: number): Column<Pod>[] => [
  { id: "mark", title: "", width: "28px", cell: (pod) => <Mark level={pod.level} /> },
  { id: "namespace", title: "Namespace", width: "110px", cell: (pod) => pod.namespace, value: (pod) => pod.namespace },
  { id: "name", title: "Pod", width: "24%", cell: (pod) => pod.name, value: (pod) => pod.name },
  { id: "node", title: "Node", width: "84px", cell: (pod) => pod.node || "none yet", value: (pod) => pod.node },
  { id: "phase", title: "Phase", width: "84px", cell: (pod) => (pod.ready ? "Ready" : pod.phase), value: (pod) => (pod.ready ? "Ready" : pod.phase) },
  { id: "restarts", title: "Restarts", width: "84px", number: true, cell: (pod) => pod.restarts, value: (pod) => pod.restarts },
  { id: "age", title: "Age", width: "112px", number: true, cell: (pod) => ago(Date.parse(pod.created), now).replace(" ago", ""), value: (pod) => -Date.parse(pod.created) },
  { id: "why", title: "Why not ready", cell: (pod) => pod.because.join(" "), value: (pod) => pod.because.join(" ") },
];

export function ClustersStation() {
  const cluster = useCluster();
  const clusters = useClusters();
  const [view, setView] = useView();
  const inventory = useInventory(cluster);
  const { now } = useNow();
  const use = useNodeUse(cluster);
  const [connecting, setConnecting] = useState(false);
  const [removing, setRemoving] = useState(false);
  const orders = useOrders();
  const [ordering, setOrdering] = useState(false);
  const [seen, setSeen] = useState<string | null>(null);
  const [practice, setPractice] = useState(false);
  const [probing, setProbing] = useState(false);
  const [trouble, setTrouble] = useState(false);
  const [open, setOpen] = useState<string | null>(null);
  const [search, setSearch] = useSearchParams();
  const list = lists.find((one) => one === search.get("list")) ?? "Pods";
  const head = <Views role="group" aria-label="What is listed">{lists.map((one) => <Button key={one} bare aria-pressed={one === list} onPress={() => setSearch((before) => { if (one === "Pods") before.delete("list"); else before.set("list", one); return before; }, { replace: true })}>{one}</Button>)}</Views>;
  const dialogs = <>
    {connecting && <ConnectDialog close={() => setConnecting(false)} done={(name) => { setConnecting(false); setView({ cluster: name, namespace: "", workload: "" }); }} />}
    {ordering && <OrderDialog close={() => setOrdering(false)} done={(name) => { setOrdering(false); setSeen(name); }} />}
    {seen && <OrderView name={seen} orders={orders.data} close={() => setSeen(null)} show={() => { setView({ cluster: seen, namespace: "", workload: "" }); setSeen(null); }} gone={() => { setSeen(null); setView({ cluster: "", namespace: "", workload: "" }); }} />}
    {probing && inventory.data && <ProbeDialog cluster={cluster} inventory={inventory.data} close={() => setProbing(false)} />}
    {practice && <PracticeDialog close={() => setPractice(false)} />}
    {removing && <DisconnectDialog cluster={cluster} close={() => setRemoving(false)} gone={() => { setRemoving(false); setView({ cluster: "", namespace: "", workload: "" }); }} />}
  </>;

  if (clusters.isPending) return <Waiting what="Reading the clusters" />;
  if (clusters.error) return <Trouble error={clusters.error} />;
  if (clusters.data.length === 0)
    return <>{dialogs}<Building orders={orders.data ?? []} see={setSeen} /><Card><Empty title="No cluster is connected yet" action={<Row $gap={8}><Button needs="installer" onPress={() => setOrdering(true)}>Order a cluster</Button><Button needs="installer" main onPress={() => setConnecting(true)}>Connect a cluster</Button></Row>}>Its nodes, workloads and pods will stand here. Have its kubeconfig ready, or order one.</Empty></Card></>;
  const summary = clusters.data.find((one) => one.name === cluster);
  const pods = (inventory.data?.pods ?? []).filter((pod) => (!view.namespace || pod.namespace === view.namespace) && (!view.workload || pod.workload === view.workload) && (!trouble || pod.level !== "clear"));
  const shown = inventory.data?.pods.find((pod) => pod.namespace + "/" + pod.name === open);
  const table = columns(now);
  const where = view.workload ? `${view.namespace}/${view.workload}` : view.namespace || cluster;
  return (
    <>
      {dialogs}
      <Title about={summary && <span title={`version ${summary.version}`}>{summary.readyNodes} of {summary.nodes} nodes, {summary.readyPods} of {summary.pods} pods ready</span>}
        actions={<>
          <Button needs="responder" onPress={() => setProbing(true)}>Probe</Button>
          <Button needs="installer" onPress={() => setPractice(true)}>Practice faults</Button>
          {orders.data?.some((order) => order.order.name === cluster) ? <Button onPress={() => setSeen(cluster)}>As ordered</Button> : <Button needs="installer" onPress={() => setRemoving(true)}>Disconnect</Button>}
          <Button needs="installer" onPress={() => setOrdering(true)}>Order one</Button>
          <Button needs="installer" main onPress={() => setConnecting(true)}>Connect a cluster</Button>
        </>}>What runs in {where}</Title>
      <Building orders={orders.data ?? []} see={setSeen} />
      {inventory.error ? <Trouble error={inventory.error} /> : null}
      {(inventory.data?.errors.length ?? 0) > 0 && <Trouble error={`${cluster} cannot be read completely. ${inventory.data!.errors.join("; ")}`} />}
      {inventory.data?.wholeCluster && <Card><NodeRules nodes={inventory.data.nodes} use={use} /></Card>}
      <Below>
        {list !== "Pods" ? <ObjectLists key={list} list={list as Exclude<ListName, "Pods">} cluster={cluster} namespace={view.namespace} workload={view.workload} workloads={inventory.data?.workloads ?? []} readiness={inventory.data?.readiness ?? []} now={now} head={head} /> : <List>
          <Head>
            <Row>{head}<Quiet>{pods.length} shown</Quiet></Row>
            <Row><Switch on={trouble} onChange={setTrouble}>Only trouble</Switch><CopyCsv columns={table} rows={pods} /></Row>
          </Head>
          {inventory.data && !inventory.data.complete ? <Waiting what="Reading the inventory" />
            : pods.length === 0 ? <Empty title={trouble ? "No pod is in trouble here" : "No pods here"}>{trouble ? "Every pod in this scope is ready." : "Choose another namespace at the left."}</Empty>
            : <Table label="Pods" columns={table} rows={pods} rowKey={(pod) => pod.namespace + "/" + pod.name} chosen={open} onOpen={(pod) => setOpen(pod.namespace + "/" + pod.name)} />}
        </List>}
        {list === "Pods" && shown && <PodDrawer pod={shown} close={() => setOpen(null)} />}
      </Below>
    </>
  );
}

function PodDrawer({ pod, close }: { pod: Pod; close: () => void }) {
  return (
    <Drawer title={pod.name} onClose={close}>
      {pod.because.length > 0 && <><h3>Why it is not ready</h3>{pod.because.map((cause, i) => <div key={cause} style={{ paddingLeft: i * 12 }}><Mark level={pod.level} /> {cause}</div>)}</>}
      <h3>Where it is</h3>
      <dl>
        <dt>namespace</dt><dd>{pod.namespace}</dd>
        <dt>{pod.workloadKind || "bare pod"}</dt><dd>{pod.workload}</dd>
        <dt>node</dt><dd>{pod.node || "none yet"}</dd>
        <dt>addresses</dt><dd>{pod.addresses.length > 0 ? pod.addresses.map((address) => <div key={address}>{address}</div>) : "none yet"}</dd>
        <dt>made</dt><dd>{exact(Date.parse(pod.created))}</dd>
      </dl>
      {pod.containers.map((container) => (
        <div key={container.name}>
          <h3>Container {container.name}</h3>
          <dl>
            <dt>state</dt><dd>{container.state}{container.reason ? `, ${container.reason}` : ""}</dd>
            <dt>image</dt><dd>{container.image}</dd>
            <dt>restarts</dt><dd>{container.restarts}</dd>
            {container.last && <><dt>ended last</dt><dd>{container.last.reason}, exit {container.last.exitCode}, {exact(Date.parse(container.last.at))}</dd></>}
            <dt>processor</dt><dd>{container.request.cores || "no"} requested, {container.limit.cores || "no"} limit</dd>
            <dt>memory</dt><dd>{withUnit(container.request.memory ?? 0, "By")} requested, {withUnit(container.limit.memory ?? 0, "By")} limit</dd>
          </dl>
        </div>
      ))}
    </Drawer>
  );
}

/** Faults of the practice cluster: break something on purpose and see whether it is noticed. */
function PracticeDialog({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const faults = useQuery({ queryKey: ["faults"], queryFn: () => got(api.GET("/api/practice/faults")), refetchInterval: 3000, retry: false });
  const [error, setError] = useState<unknown>(null);
  return (
    <Dialog title="Faults of the practice cluster" width={520} onClose={close}>
      <Quiet>Break something in larkfield-north on purpose, and see whether arrivals and alarms notice.</Quiet>
      {faults.error ? <Trouble error={faults.error} /> : null}
      {error ? <Trouble error={error} /> : null}
      {faults.data?.map((fault) => (
        <Switch key={fault.name} on={fault.on} onChange={async (on) => {
          setError(null);
          try { await got(api.PUT("/api/practice/faults/{name}", { params: { path: { name: fault.name } }, body: { on } })); } catch (wrong) { setError(wrong); }
          void queries.invalidateQueries({ queryKey: ["faults"] });
        }}>{fault.title}</Switch>
      ))}
    </Dialog>
  );
}
