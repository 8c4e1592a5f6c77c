import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { Button, Quiet, Trouble } from "../parts/basics";
import { Switch, TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { lists, readSelection } from "./selection";

type Selection = Schemas["Selection"];

/** From where something is collected: all namespaces, also new ones, or those that are chosen; of them all pods, or some. */
export function NamespacesDialog({ cluster, what, chosen, only, close, keep }: { cluster: string; what: string; chosen: string[] | null; only: Selection | null; close: () => void; keep: (names: string[] | null, only: Selection | null) => void }) {
  const inventory = useQuery({ queryKey: ["inventory", cluster], queryFn: () => got(api.GET("/api/clusters/{name}", { params: { path: { name: cluster } } })) });
  const [all, setAll] = useState(!chosen);
  const [names, setNames] = useState<string[]>(chosen ?? []);
  const [texts, setTexts] = useState({ workloads: lists(only?.workloads), labels: lists(only?.labels), nodes: lists(only?.nodes) });
  const { selection, mistakes } = readSelection(texts);
  const pods = inventory.data?.pods ?? [];
  const there = [...new Set([...pods.map((pod) => pod.namespace), ...names])].sort();
  const known = { workloads: new Set(pods.map((pod) => `${pod.namespace}/${pod.workload}`)), nodes: new Set((inventory.data?.nodes ?? []).map((node) => node.name)) };
  const unknown = [...(selection?.workloads ?? []).filter((name) => pods.length > 0 && !known.workloads.has(name)), ...(selection?.nodes ?? []).filter((name) => known.nodes.size > 0 && !known.nodes.has(name))];
  return (
    <Dialog title={`${what}: from where`} width={560} onClose={close} actions={<Button main isDisabled={(!all && names.length === 0) || Object.keys(mistakes).length > 0} onPress={() => keep(all ? null : names, selection)}>Take over into the draft</Button>}>
      {inventory.error ? <Trouble error={inventory.error} /> : null}
      <Switch on={all} onChange={setAll}>All namespaces, also those that come later</Switch>
      {!all && there.map((name) => <Switch key={name} on={names.includes(name)} onChange={(on) => setNames(on ? [...names, name] : names.filter((one) => one !== name))}>{name}</Switch>)}
      {!all && names.length === 0 && <Quiet>Choose at least one, or switch the source off.</Quiet>}
      <p style={{ margin: "6px 0 0" }}><Quiet>Of them all pods, or only those that fit each of these; a line each, left empty for any.</Quiet></p>
      <div style={{ display: "grid", gridTemplateColumns: "repeat(3, minmax(0, 1fr))", gap: 10, alignItems: "start" }}>
        <TextInput label="Workloads" rows={3} value={texts.workloads} onChange={(workloads) => setTexts({ ...texts, workloads })} mistake={mistakes.workloads} placeholder="auction/ledger" />
        <TextInput label="Labels" rows={3} value={texts.labels} onChange={(labels) => setTexts({ ...texts, labels })} mistake={mistakes.labels} placeholder="tier=front" />
        <TextInput label="Nodes" rows={3} value={texts.nodes} onChange={(nodes) => setTexts({ ...texts, nodes })} placeholder="north-1" />
      </div>
      {unknown.length > 0 && <Quiet role="status">Not there now: {unknown.join(", ")}.</Quiet>}
    </Dialog>
  );
}
