import styled, { useTheme } from "styled-components";
import type { Schemas } from "../api/client";
import { Heading, Mark, Quiet } from "../parts/basics";
import { digits, withUnit } from "../parts/format";

const Grid = styled.div`
  display: grid;
  grid-template-columns: minmax(150px, auto) 1fr 1fr;
  gap: 4px 28px;
  padding: 8px 16px 12px;
  align-items: center;
  .name { display: flex; gap: 4px; align-items: center; white-space: nowrap; }
  .rule { display: grid; grid-template-columns: 1fr 198px; gap: 10px; align-items: center; }
  .rule span { font: 12px ${({ theme }) => theme.mono}; color: ${({ theme }) => theme.ink2}; text-align: right; white-space: nowrap; }
`;

/** One rule a node and resource: its length is what the node has; the band is used, the mark is requested, the thin mark the limits. */
function Rule({ label, use, request, limit, total, text }: { label: string; use: number | null; request: number; limit: number; total: number; text: string }) {
  const theme = useTheme();
  const share = (value: number) => `${Math.min(100, total > 0 ? (value / total) * 100 : 0)}%`;
  return (
    <div className="rule">
      <svg width="100%" height="16" role="img" aria-label={`${label}: ${text}`}>
        <title>{label}: {text}; limits {total > 0 ? Math.round((limit / total) * 100) : 0} % of what the node has</title>
        <rect x={0} y={6} width="100%" height={4} fill={theme.sunk} />
        {use !== null && <rect x={0} y={5} width={share(use)} height={6} fill={theme.metrics} />}
        <svg x={share(request)} overflow="visible"><rect x={-1.5} y={1} width={3} height={14} fill={theme.ink} /></svg>
        <svg x={share(limit)} overflow="visible"><rect x={-2} y={3} width={1.5} height={10} fill={theme.ink2} /></svg>
      </svg>
      <span>{text}</span>
    </div>
  );
}

/** Nodes as rules with marks for use, request and limit. */
export function NodeRules({ nodes, use }: { nodes: Schemas["NodeView"][]; use: Map<string, { cores: number | null; memory: number | null }> }) {
  return (
    <Grid role="group" aria-label="Nodes">
      <Heading>Nodes</Heading>
      <Quiet>Processor: used, <b>▮</b> requested, ▏limits</Quiet>
      <Quiet>Memory</Quiet>
      {nodes.map((node) => {
        const [cores, memory] = [node.allocatable.cores ?? 0, node.allocatable.memory ?? 0];
        const used = use.get(node.name);
        return [
          <div key={node.name} className="name" title={node.addresses.join(", ")}>
            <Mark level={node.ready ? "clear" : "critical"} title={node.ready ? "ready" : node.because.join(" ")} />{node.name} <Quiet>{node.pods} pods</Quiet>
          </div>,
          <Rule key={node.name + "c"} label={`Processor of ${node.name}`} use={used?.cores ?? null} request={node.requests.cores ?? 0} limit={node.limits.cores ?? 0} total={cores}
            text={`${used?.cores != null ? digits(used.cores) : "–"} / ${digits(node.requests.cores ?? 0)} of ${digits(cores)} cores`} />,
          <Rule key={node.name + "m"} label={`Memory of ${node.name}`} use={used?.memory ?? null} request={node.requests.memory ?? 0} limit={node.limits.memory ?? 0} total={memory}
            text={`${used?.memory != null ? withUnit(used.memory, "By") : "–"} / ${withUnit(node.requests.memory ?? 0, "By")}`} />,
        ];
      })}
    </Grid>
  );
}
