import { useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Mark } from "../parts/basics";
import { useView } from "./view";

const Side = styled.nav`
  grid-area: scope;
  overflow: auto;
  padding: 14px 0 20px;
  border-right: 1px solid ${({ theme }) => theme.rule};
  h2 { margin: 10px 18px 4px; font: 600 12px/1.4 ${({ theme }) => theme.text}; color: ${({ theme }) => theme.ink2}; }
  button {
    display: flex; align-items: center; gap: 6px; width: 100%; height: 26px; padding: 0 18px 0 15px; border: 0; border-left: 3px solid transparent; background: none; color: inherit; font: inherit; text-align: left; cursor: pointer;
  }
  button .name { flex: 1; min-width: 0; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  button small { font: 12px ${({ theme }) => theme.mono}; color: ${({ theme }) => theme.ink2}; }
  button:hover { background: ${({ theme }) => theme.sunk}; }
  button[aria-pressed="true"] { background: ${({ theme }) => theme.chosen}; border-left-color: ${({ theme }) => theme.act}; font-weight: 600; }
  button:focus-visible { outline: 2px solid ${({ theme }) => theme.act}; outline-offset: -2px; }
`;

export const useClusters = () => useQuery({ queryKey: ["clusters"], refetchInterval: 15_000, queryFn: () => got(api.GET("/api/clusters")) });
export const useInventory = (cluster: string) => useQuery({
  queryKey: ["inventory", cluster], enabled: !!cluster, placeholderData: (before?: Schemas["InventoryView"]) => (before?.cluster === cluster ? before : undefined),
  queryFn: () => got(api.GET("/api/clusters/{name}", { params: { path: { name: cluster } } })),
});

/** Cluster, namespace, workload: what is chosen here scopes every station. */
export function ScopeTree({ cluster }: { cluster: string }) {
  const [view, setView] = useView();
  const clusters = useClusters();
  const inventory = useInventory(cluster);
  const workloads = (inventory.data?.workloads ?? []).filter((workload) => workload.namespace === view.namespace);
  const worst = (levels: Schemas["HealthLevel"][]) => (["critical", "major", "minor", "warning"] as const).find((level) => levels.includes(level)) ?? "clear";
  const all = inventory.data?.namespaces ?? [];
  return (
    <Side aria-label="Scope">
      <h2>Cluster</h2>
      {clusters.data?.map((one) => (
        <button key={one.name} aria-pressed={one.name === cluster} onClick={() => setView({ cluster: one.name, namespace: "", workload: "" })}>
          <Mark level={one.level} title={one.trouble ?? undefined} /><span className="name">{one.name}</span><small>{one.nodes}</small>
        </button>
      ))}
      {all.length > 0 && <h2>Namespaces</h2>}
      {all.length > 0 && (
        <button aria-pressed={view.namespace === ""} onClick={() => setView({ namespace: "", workload: "" })}>
          <Mark level={worst(all.map((one) => one.level))} /><span className="name">all</span><small>{all.reduce((pods, one) => pods + one.pods, 0)}</small>
        </button>
      )}
      {all.map((one) => (
        <button key={one.name} aria-pressed={view.namespace === one.name} onClick={() => setView({ namespace: one.name, workload: "" })}>
          <Mark level={one.level} /><span className="name">{one.name}</span><small>{one.pods}</small>
        </button>
      ))}
      {workloads.length > 0 && <h2>Workloads in {view.namespace}</h2>}
      {workloads.map((one) => (
        <button key={one.kind + one.name} aria-pressed={view.workload === one.name} onClick={() => setView({ workload: view.workload === one.name ? "" : one.name })}>
          <Mark level={one.level} title={one.because[0]} /><span className="name">{one.name}</span><small>{one.ready}/{one.desired}</small>
        </button>
      ))}
    </Side>
  );
}
