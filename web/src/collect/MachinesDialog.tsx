import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Empty, Mark, Quiet, Row, Trouble, Waiting } from "../parts/basics";
import { Choose, Switch, TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { exact, length } from "../parts/time";
import { firstPlan, lines, machineState, planWords, readEndpoints, writeEndpoints, type Machine, type MachinePlan } from "./machines";

const Shown = styled.pre`margin: 0; padding: 10px; max-height: 240px; overflow: auto; font-size: 12px; line-height: 1.45; background: ${({ theme }) => theme.ground}; border: 1px solid ${({ theme }) => theme.rule};`;
const Line = styled(Row)`justify-content: space-between; border-top: 1px solid ${({ theme }) => theme.rule}; padding: 6px 0;`;

/** Machines outside of clusters: what their agents collect, how they are set up, and how they are. */
export function MachinesDialog({ cluster, close }: { cluster: string; close: () => void }) {
  const queries = useQueryClient();
  const now = Date.now();
  const machines = useQuery({ queryKey: ["machines", cluster], refetchInterval: 5_000, queryFn: () => got(api.GET("/api/clusters/{name}/machines", { params: { path: { name: cluster } } })) });
  const [editing, setEditing] = useState<Machine | "new" | null>(null);
  const [shown, setShown] = useState<{ name: string; text: string; gone: boolean } | null>(null);
  const [asking, setAsking] = useState<string | null>(null);
  const [copied, setCopied] = useState(false);
  const told = (kept: Schemas["KeptMachine"]) => { setEditing(null); setCopied(false); setShown(kept.install ? { name: kept.machine.name, text: kept.install, gone: false } : null); void queries.invalidateQueries({ queryKey: ["machines", cluster] }); };
  const token = useMutation({ mutationFn: (machine: string) => got(api.POST("/api/clusters/{name}/machines/{machine}/token", { params: { path: { name: cluster, machine } } })), onSuccess: told });
  const remove = useMutation({
    mutationFn: (machine: string) => got(api.DELETE("/api/clusters/{name}/machines/{machine}", { params: { path: { name: cluster, machine } } })),
    onSuccess: (forgotten, machine) => { setAsking(null); setCopied(false); setShown({ name: machine, text: forgotten.remove, gone: true }); void queries.invalidateQueries({ queryKey: ["machines", cluster] }); },
  });
  if (editing) return <PlanDialog cluster={cluster} machine={editing === "new" ? null : editing} close={() => setEditing(null)} kept={told} />;
  return (
    <Dialog title={`Machines beside ${cluster}`} width={680} onClose={close} actions={<Button needs="installer" main onPress={() => setEditing("new")}>Add a machine</Button>}>
      <p><Quiet>The same agent as a service on a machine outside, such as a database server. It asks this server for its plan twice a minute, so changes need no way to the machine. Its data stand beside those of {cluster}, with the machine as host.name.</Quiet></p>
      {shown && <div role="status">
        <p>{shown.gone ? `${shown.name} is forgotten and its token revoked. To have the agent gone, run there as root:` : `Run this on ${shown.name} as root. The program stands in /opt/skevin there. It holds a token and is shown once.`}</p>
        <Shown tabIndex={0}>{shown.text}</Shown>
        <Button bare onPress={async () => { await navigator.clipboard.writeText(shown.text); setCopied(true); }}>{copied ? "Copied" : "Copy"}</Button>
      </div>}
      {machines.isPending ? <Waiting what="Reading the machines" /> : machines.error ? <Trouble error={machines.error} />
        : machines.data.length === 0 ? <Empty title="No machine outside is collected from">Add one, then run on it what is shown here.</Empty>
        : machines.data.map((machine) => {
          const state = machineState(machine, now);
          return (
            <Line key={machine.name}>
              <span><Mark level={state.level} title={state.text} /> <b>{machine.name}</b> <Quiet>{state.text}</Quiet><br /><Quiet title={machine.state.askedAt ? `asked for its plan ${exact(Date.parse(machine.state.askedAt))}` : undefined}>{planWords(machine.plan)}, every {length(machine.plan.everySeconds ?? 15)}; added by {machine.createdBy}</Quiet></span>
              <Row>
                <Button bare needs="installer" aria-label={`Change the plan of ${machine.name}`} onPress={() => setEditing(machine)}>Plan</Button>
                <Button bare needs="installer" aria-label={`New token for ${machine.name}`} isDisabled={token.isPending} onPress={() => token.mutate(machine.name)}>New token</Button>
                {asking === machine.name ? <Button main isDisabled={remove.isPending} onPress={() => remove.mutate(machine.name)}>Forget {machine.name}</Button> : <Button bare needs="installer" aria-label={`Forget ${machine.name}`} onPress={() => setAsking(machine.name)}>Forget</Button>}
              </Row>
            </Line>
          );
        })}
      {token.error ? <Trouble error={token.error} /> : null}
      {remove.error ? <Trouble error={remove.error} /> : null}
    </Dialog>
  );
}

function PlanDialog({ cluster, machine, close, kept }: { cluster: string; machine: Machine | null; close: () => void; kept: (kept: Schemas["KeptMachine"]) => void }) {
  const [name, setName] = useState(machine?.name ?? "");
  const [plan, setPlan] = useState<MachinePlan>(machine?.plan ?? firstPlan);
  const [files, setFiles] = useState((machine?.plan.files ?? []).join("\n"));
  const [ends, setEnds] = useState(writeEndpoints(machine?.plan.endpoints));
  const { endpoints, mistake } = readEndpoints(ends);
  const keep = useMutation({
    mutationFn: () => got(api.PUT("/api/clusters/{name}/machines/{machine}", { params: { path: { name: cluster, machine: name } }, body: { ...plan, files: lines(files).length > 0 ? lines(files) : null, endpoints: endpoints.length > 0 ? endpoints : null } })),
    onSuccess: kept,
  });
  const change = (part: Partial<MachinePlan>) => setPlan({ ...plan, ...part });
  return (
    <Dialog title={machine ? `Plan of ${machine.name}` : "A machine outside"} width={600} onClose={close} actions={<Button main isDisabled={!name.trim() || !!mistake || keep.isPending} onPress={() => keep.mutate()}>{machine ? "Put in force" : "Add it"}</Button>}>
      {!machine && <TextInput label="Name" value={name} onChange={setName} autoFocus help="Best the name it has on the network, for example weighbridge.larkfield.example" />}
      <Row $gap={18} style={{ flexWrap: "wrap" }}>
        <Switch on={!!plan.hostMetrics} onChange={(on) => change({ hostMetrics: on })}>Its kernel</Switch>
        <Switch on={!!plan.spans} onChange={(on) => change({ spans: on })}>Spans sent to it</Switch>
        <Switch on={!!plan.syslog} onChange={(on) => change({ syslog: on })}>Syslog</Switch>
        <Choose label="metrics every" value={String(plan.everySeconds)} onChange={(key) => change({ everySeconds: Number(key) })} options={[...new Set([5, 10, 15, 30, 60, 300, plan.everySeconds ?? 15])].sort((a, b) => a - b).map((seconds) => ({ id: String(seconds), text: length(seconds) }))} />
      </Row>
      <TextInput label="Log files, one in each line" rows={4} value={files} onChange={setFiles} placeholder={"/var/log/postgresql/*.log"} help="In the last part of a path * and ? stand for other characters. Rotated files are read to their end." />
      <TextInput label="Metrics endpoints, a name and an address in each line" rows={3} value={ends} onChange={setEnds} placeholder={"database http://127.0.0.1:9464/metrics"} mistake={mistake ?? undefined} />
      {keep.error ? <Trouble error={keep.error} /> : null}
    </Dialog>
  );
}
