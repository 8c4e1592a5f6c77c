import type { Schemas } from "../api/client";

type Selection = Schemas["Selection"];

export const lists = (names: string[] | null | undefined) => (names ?? []).join("\n");

const lines = (text: string) => { const found = text.split("\n").map((line) => line.trim()).filter(Boolean); return found.length > 0 ? found : null; };

/** Three lists, a line each; null where all are empty. The server checks the same again. */
export function readSelection(texts: { workloads: string; labels: string; nodes: string }): { selection: Selection | null; mistakes: { workloads?: string; labels?: string } } {
  const selection = { workloads: lines(texts.workloads), labels: lines(texts.labels), nodes: lines(texts.nodes) };
  const mistakes: { workloads?: string; labels?: string } = {};
  const workload = selection.workloads?.find((name) => !/^[^/]+\/[^/]+$/.test(name));
  if (workload) mistakes.workloads = `'${workload}' is no workload such as auction/ledger.`;
  const label = selection.labels?.find((name) => !/^[^=]+=/.test(name));
  if (label) mistakes.labels = `'${label}' is no label such as tier=front.`;
  return { selection: selection.workloads || selection.labels || selection.nodes ? selection : null, mistakes };
}

/** From where, in a few words. */
export function fromWhere(names: string[] | null | undefined, only?: Selection | null): string {
  const where = !names || names.length === 0 ? "all namespaces" : names.length === 1 ? names[0]! : `${names.length} namespaces`;
  const some = (list: string[] | null | undefined, one: string) => (!list || list.length === 0 ? null : list.length === 1 ? list[0]! : `${list.length} ${one}s`);
  const parts = [some(only?.workloads, "workload"), some(only?.labels, "label"), some(only?.nodes, "node")].filter(Boolean);
  return parts.length === 0 ? where : `${where}, only ${parts.join(", ")}`;
}
