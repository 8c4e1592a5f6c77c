import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { Button, Quiet, Trouble } from "../parts/basics";
import { Switch } from "../parts/fields";
import { Dialog } from "../parts/overlays";

/** From which namespaces something is collected; all of them, also new ones, or those that are chosen. */
export function NamespacesDialog({ cluster, what, chosen, close, keep }: { cluster: string; what: string; chosen: string[] | null; close: () => void; keep: (names: string[] | null) => void }) {
  const inventory = useQuery({ queryKey: ["inventory", cluster], queryFn: () => got(api.GET("/api/clusters/{name}", { params: { path: { name: cluster } } })) });
  const [all, setAll] = useState(!chosen);
  const [names, setNames] = useState<string[]>(chosen ?? []);
  const there = [...new Set([...(inventory.data?.pods ?? []).map((pod) => pod.namespace), ...names])].sort();
  return (
    <Dialog title={`${what}: from which namespaces`} width={440} onClose={close} actions={<Button main isDisabled={!all && names.length === 0} onPress={() => keep(all ? null : names)}>Take over into the draft</Button>}>
      {inventory.error ? <Trouble error={inventory.error} /> : null}
      <Switch on={all} onChange={setAll}>All, also those that come later</Switch>
      {!all && there.map((name) => <Switch key={name} on={names.includes(name)} onChange={(on) => setNames(on ? [...names, name] : names.filter((one) => one !== name))}>{name}</Switch>)}
      {!all && names.length === 0 && <Quiet>Choose at least one, or switch the source off.</Quiet>}
    </Dialog>
  );
}

/** How many are chosen, in words. */
export const fromWhere = (names: string[] | null | undefined) => (!names || names.length === 0 ? "all namespaces" : names.length === 1 ? names[0]! : `${names.length} namespaces`);
