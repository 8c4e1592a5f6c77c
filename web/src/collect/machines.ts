import type { Schemas } from "../api/client";

export type Machine = Schemas["MachineView"];
export type MachinePlan = Schemas["MachinePlan"];

export const firstPlan: MachinePlan = { hostMetrics: true, everySeconds: 15, files: null, endpoints: null, spans: false, syslog: false };

/** Lines of text as a list; empty lines are left out. */
export const lines = (text: string): string[] => text.split("\n").map((line) => line.trim()).filter(Boolean);

/** Lines of "name address"; what cannot be read is named by its line. The server checks the rest. */
export function readEndpoints(text: string): { endpoints: Schemas["MachineEndpoint"][]; mistake: string | null } {
  const endpoints: Schemas["MachineEndpoint"][] = [];
  let mistake: string | null = null;
  lines(text).forEach((line, i) => {
    const match = /^(\S+)\s+(https?:\/\/\S+)$/.exec(line);
    if (match) endpoints.push({ name: match[1]!, url: match[2]! });
    else mistake ??= `Line ${i + 1}: a name, a blank and an address such as http://127.0.0.1:9464/metrics are expected.`;
  });
  return { endpoints, mistake };
}

export const writeEndpoints = (endpoints: readonly Schemas["MachineEndpoint"][] | null | undefined) => (endpoints ?? []).map(({ name, url }) => `${name} ${url}`).join("\n");

/** How a machine's agent is doing. Agents ask for their plan twice a minute. */
export function machineState(machine: Machine, now: number): { level: "clear" | "warning" | "critical"; text: string } {
  const { state } = machine;
  if (!state.tokenValid) return { level: "critical", text: "its token is revoked" };
  if (!state.askedAt) return { level: "warning", text: "not set up yet" };
  const ago = Math.max(0, Math.round((now - Date.parse(state.askedAt)) / 1000));
  if (ago > 90) return { level: "critical", text: `no word for ${ago < 120 ? `${ago} s` : `${Math.round(ago / 60)} min`}` };
  return machine.askedRevision === machine.revision ? { level: "clear", text: `uses plan ${machine.revision}` } : { level: "warning", text: `still uses plan ${machine.askedRevision}` };
}

/** What a plan collects, in a few words. */
export function planWords(plan: MachinePlan): string {
  const count = (list: readonly unknown[] | null | undefined, one: string) => (list?.length ? [`${list.length} ${one}${list.length > 1 ? "s" : ""}`] : []);
  return [...(plan.hostMetrics ? ["kernel"] : []), ...count(plan.files, "file"), ...count(plan.endpoints, "endpoint"), ...(plan.spans ? ["spans"] : []), ...(plan.syslog ? ["syslog"] : [])].join(", ") || "nothing";
}
