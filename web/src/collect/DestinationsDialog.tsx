import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { Button, Quiet, Row, Trouble } from "../parts/basics";
import { Switch, TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { destinationMistake, signalsOf, type Destination } from "./destinations";

/** Where the agents send beside this server. Headers go into the cluster at once, everything else into the draft. */
export function DestinationsDialog({ cluster, destinations, close, keep }: { cluster: string; destinations: Destination[]; close: () => void; keep: (destinations: Destination[]) => void }) {
  const [list, setList] = useState(destinations);
  const [headers, setHeaders] = useState<Record<number, string>>({});
  const change = (i: number, part: Partial<Destination>) => setList(list.map((one, n) => (n === i ? { ...one, ...part } : one)));
  const mistakes = list.map((one, i) => destinationMistake(one, list.slice(0, i).map((other) => other.name)));
  const take = useMutation({
    mutationFn: async () => {
      for (const [i, header] of Object.entries(headers))
        if (header.trim() && list[Number(i)])
          await got(api.PUT("/api/clusters/{name}/collection/destinations/{destination}/header", { params: { path: { name: cluster, destination: list[Number(i)]!.name } }, body: { authorization: header.trim() } satisfies Schemas["DestinationHeader"] }));
    },
    onSuccess: () => keep(list),
  });
  return (
    <Dialog title="Also sent to" width={640} onClose={close} actions={<>
      <Button onPress={() => setList([...list, { name: "", url: "https://", signals: ["metrics", "logs", "traces"] }])}>Add a destination</Button>
      <Button main isDisabled={mistakes.some(Boolean) || take.isPending} onPress={() => take.mutate()}>Take over into the draft</Button>
    </>}>
      <p><Quiet>The agents send the same to anything that takes OTLP over HTTP. Each destination has a buffer of its own on the nodes, so one that does not answer holds up nothing else.</Quiet></p>
      {list.length === 0 && <p>Everything comes to this server alone.</p>}
      {list.map((one, i) => (
        <fieldset key={i} style={{ border: 0, borderTop: "1px solid currentColor", padding: "8px 0 12px", margin: "8px 0 0" }}>
          <legend style={{ padding: "0 8px 0 0" }}>{one.name || "New destination"}</legend>
          <Row style={{ alignItems: "start" }}>
            <div style={{ width: 150 }}><TextInput label="Name" value={one.name} onChange={(name) => change(i, { name })} /></div>
            <div style={{ flex: 1 }}><TextInput label="Address, without /v1/…" value={one.url} onChange={(url) => change(i, { url })} /></div>
          </Row>
          {mistakes[i] && <Quiet role="status">{mistakes[i]}</Quiet>}
          <Row style={{ margin: "8px 0" }}>
            {["metrics", "logs", "traces"].map((signal) => <Switch key={signal} on={signalsOf(one).includes(signal)} onChange={(on) => change(i, { signals: on ? [...signalsOf(one), signal] : signalsOf(one).filter((other) => other !== signal) })}>{signal}</Switch>)}
          </Row>
          <Row style={{ alignItems: "end" }}>
            <div style={{ flex: 1 }}><TextInput label="Header Authorization; goes into a secret of the cluster, is not kept here" value={headers[i] ?? ""} onChange={(text) => setHeaders({ ...headers, [i]: text })} placeholder="left empty: as it is" type="password" /></div>
            <Button onPress={() => { setList(list.filter((_, n) => n !== i)); setHeaders({}); }}>Remove</Button>
          </Row>
        </fieldset>
      ))}
      {take.error ? <Trouble error={take.error} /> : null}
    </Dialog>
  );
}
