import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, Problem, type Schemas } from "../api/client";
import { Button, Mark, Trouble } from "../parts/basics";
import { TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";

function Steps({ steps }: { steps: Schemas["ConnectStep"][] }) {
  return <div role="status">{steps.map((step) => <div key={step.title}><Mark level={step.ok ? "clear" : "critical"} /> {step.title}: {step.detail}</div>)}</div>;
}

/** Connects a cluster by its kubeconfig, step by step. */
export function ConnectDialog({ close, done }: { close: () => void; done: (name: string) => void }) {
  const [name, setName] = useState("");
  const [kubeconfig, setKubeconfig] = useState("");
  const queries = useQueryClient();
  const connect = useMutation({
    mutationFn: () => got(api.POST("/api/clusters", { body: { name: name || null, kubeconfig } })),
    onSuccess: () => { void queries.invalidateQueries(); },
  });
  const steps = connect.data?.steps ?? (connect.error instanceof Problem ? (connect.error.errors as Schemas["ConnectStep"][]) : []);
  return (
    <Dialog title="Connect a cluster" width={620} onClose={close} actions={connect.data
      ? <Button main onPress={() => done(connect.data.name)}>Show {connect.data.name}</Button>
      : <Button main isDisabled={connect.isPending || !kubeconfig.trim()} onPress={() => connect.mutate()}>{connect.isPending ? "Connecting" : "Connect"}</Button>}>
      {!connect.data && <>
        <TextInput label="Kubeconfig" value={kubeconfig} onChange={setKubeconfig} rows={10} autoFocus help="Paste the whole file. It is kept encrypted. Its account must be able to read nodes, pods and workloads; to roll out collection it must also be able to apply objects." />
        <TextInput label="Name" value={name} onChange={setName} help="Left empty, the name of the file's current context is taken." />
      </>}
      <Steps steps={steps} />
      {connect.error ? <Trouble error={connect.error} /> : null}
    </Dialog>
  );
}
