/** Lanes of who talks to whom: plain data to places, nothing drawn. */

export interface Edge {
  source: string; sourceNamespace: string; destination: string; destinationNamespace: string;
  rate: number; errors: number; dropped: number; reason: string; p95: number | null; bytes: number | null;
}

export interface TrafficNode { id: string; name: string; namespace: string; lane: number; x: number; y: number; width: number }
export interface Ribbon { edge: Edge; from: TrafficNode; to: TrafficNode; width: number; path: string; middle: { x: number; y: number } }
export interface TrafficLane { namespace: string; top: number; height: number }
export interface TrafficLayout { lanes: TrafficLane[]; nodes: TrafficNode[]; ribbons: Ribbon[]; height: number }

export const outside = "outside";
const nodeHeight = 24;
const wide = (name: string) => Math.min(170, Math.max(58, 16 + name.length * 6.7));

const end = (name: string, namespace: string) => `${namespace}/${name}`;

/** Longest way from where calls begin, cycles cut: callers stand left of what they call. */
export function ranks(edges: Edge[]): Map<string, number> {
  const rank = new Map<string, number>();
  const next = new Map<string, string[]>();
  const called = new Set<string>();
  for (const edge of edges) {
    const [from, to] = [end(edge.source, edge.sourceNamespace), end(edge.destination, edge.destinationNamespace)];
    if (from === to) continue;
    rank.set(from, 0);
    rank.set(to, 0);
    called.add(to);
    next.set(from, [...(next.get(from) ?? []), to]);
  }
  const walk = (id: string, depth: number, above: Set<string>) => {
    if (depth < (rank.get(id) ?? 0) || above.has(id)) return;
    rank.set(id, depth);
    above.add(id);
    for (const to of next.get(id) ?? []) if (!above.has(to) && depth + 1 > (rank.get(to) ?? 0)) walk(to, depth + 1, above);
    above.delete(id);
  };
  for (const id of rank.keys()) if (!called.has(id)) walk(id, 0, new Set());
  // What only cycles reach begins at its first member.
  for (const id of rank.keys()) if (called.has(id) && rank.get(id) === 0) walk(id, 0, new Set());
  return rank;
}

/** One lane a namespace, outside on top, then in the order in which calls reach them. */
export function layOut(edges: Edge[], width: number, least: number): TrafficLayout {
  const rank = ranks(edges);
  const ends = new Map<string, { name: string; namespace: string }>();
  for (const edge of edges) {
    ends.set(end(edge.source, edge.sourceNamespace), { name: edge.source, namespace: edge.sourceNamespace });
    ends.set(end(edge.destination, edge.destinationNamespace), { name: edge.destination, namespace: edge.destinationNamespace });
  }
  const members = new Map<string, string[]>();
  for (const [id, { namespace }] of ends) members.set(namespace || outside, [...(members.get(namespace || outside) ?? []), id]);
  const mean = (ids: string[]) => ids.reduce((total, id) => total + (rank.get(id) ?? 0), 0) / ids.length;
  const namespaces = [...members.keys()].sort((a, b) => (a === outside ? -1 : b === outside ? 1 : mean(members.get(a)!) - mean(members.get(b)!) || a.localeCompare(b)));
  const deepest = Math.max(1, ...rank.values());
  const [left, right] = [142, width - 96];
  const rowsOf = new Map<string, number>();
  const nodes: TrafficNode[] = [];
  namespaces.forEach((namespace, lane) => {
    // Boxes that would lie on each other in a lane go one row further down.
    const rows: TrafficNode[][] = [];
    for (const id of members.get(namespace)!.sort((a, b) => (rank.get(a) ?? 0) - (rank.get(b) ?? 0) || a.localeCompare(b))) {
      const { name } = ends.get(id)!;
      const node: TrafficNode = { id, name, namespace, lane, x: left + ((rank.get(id) ?? 0) / deepest) * (right - left), y: 0, width: wide(name) };
      node.x = Math.min(Math.max(node.x, left), width - node.width / 2 - 8);
      const clear = (x: number) => (others: TrafficNode[]) => others.every((other) => Math.abs(other.x - x) > (other.width + node.width) / 2 + 14);
      let row = rows.findIndex(clear(node.x));
      // A little to the right is better than a row further down, as long as what it calls stays to its right.
      for (let shift = 0.15; row < 0 && shift <= 0.75; shift += 0.15) {
        const x = node.x + (shift * (right - left)) / deepest;
        if (x + node.width / 2 < width - 8 && (row = rows.findIndex(clear(x))) >= 0) node.x = x;
      }
      if (row < 0) row = rows.push([]) - 1;
      rows[row]!.push(node);
      node.y = row;
      nodes.push(node);
    }
    rowsOf.set(namespace, rows.length);
  });
  const needed = namespaces.map((namespace) => 14 + rowsOf.get(namespace)! * (nodeHeight + 8));
  const spare = Math.max(0, least - needed.reduce((total, one) => total + one, 0)) / namespaces.length;
  let top = 0;
  const lanes = namespaces.map((namespace, i) => {
    const lane = { namespace, top, height: needed[i]! + spare };
    top += lane.height;
    return lane;
  });
  for (const node of nodes) {
    const lane = lanes[node.lane]!;
    const count = rowsOf.get(node.namespace)!;
    node.y = lane.top + 12 + ((node.y + 0.5) / count) * (lane.height - 14);
  }
  const byId = new Map(nodes.map((node) => [node.id, node]));
  const busiest = Math.max(...edges.map((edge) => edge.rate), 1e-9);
  const ribbons = edges.filter((edge) => end(edge.source, edge.sourceNamespace) !== end(edge.destination, edge.destinationNamespace)).map((edge) => {
    const [from, to] = [byId.get(end(edge.source, edge.sourceNamespace))!, byId.get(end(edge.destination, edge.destinationNamespace))!];
    const [x1, x2] = [from.x + from.width / 2, to.x - to.width / 2];
    const bend = Math.max(36, Math.abs(x2 - x1) / 2);
    return {
      edge, from, to, width: 1.5 + 12 * Math.sqrt(edge.rate / busiest),
      path: `M${x1.toFixed(1)} ${from.y.toFixed(1)}C${(x1 + bend).toFixed(1)} ${from.y.toFixed(1)} ${(x2 - bend).toFixed(1)} ${to.y.toFixed(1)} ${x2.toFixed(1)} ${to.y.toFixed(1)}`,
      middle: { x: (x1 + x2) / 2, y: (from.y + to.y) / 2 },
    };
  }).sort((a, b) => b.width - a.width);
  return { lanes, nodes, ribbons, height: top };
}

/** Rows of a graph as edges; columns by name, so that their order does not matter. */
export function edgesOf(columns: { name: string }[], rows: unknown[][]): Edge[] {
  const at = (name: string) => columns.findIndex((column) => column.name === name);
  const text = (row: unknown[], name: string) => String(row[at(name)] ?? "");
  const number = (row: unknown[], name: string) => (typeof row[at(name)] === "number" ? (row[at(name)] as number) : null);
  return rows.map((row) => ({
    source: text(row, "source"), sourceNamespace: text(row, "source.namespace"), destination: text(row, "destination"), destinationNamespace: text(row, "destination.namespace"),
    rate: number(row, "rate") ?? 0, errors: number(row, "errors") ?? 0, dropped: number(row, "dropped") ?? 0, reason: text(row, "reason"), p95: number(row, "p95"), bytes: number(row, "bytes"),
  }));
}

/** A rate in the unit in which it is a number people picture. */
export function spoken(perSecond: number): string {
  if (perSecond >= 1) return `${perSecond >= 10 ? Math.round(perSecond) : perSecond.toFixed(1)} a second`;
  const minute = perSecond * 60;
  if (minute >= 1) return `${minute >= 10 ? Math.round(minute) : minute.toFixed(1)} a minute`;
  return `${(minute * 60).toFixed(minute * 60 >= 10 ? 0 : 1)} an hour`;
}
