import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Mark, Quiet, Row, Trouble } from "../parts/basics";
import { Choose } from "../parts/fields";
import { digits } from "../parts/format";
import { Dialog } from "../parts/overlays";
import { CopyCsv, Table, type Column } from "../parts/Table";
import { answerWords, targets } from "./probe";

type Outcome = Schemas["ProbeOutcome"];

const Results = styled.div`height: 46vh; min-height: 200px; display: flex; flex-direction: column; border: 1px solid ${({ theme }) => theme.rule};`;

const columns: Column<Outcome>[] = [
  { id: "mark", title: "", width: "28px", cell: (one) => <Mark level={one.answer.error ? "critical" : "clear"} title={one.answer.error ? "failed" : "reached"} /> },
  { id: "from", title: "From", width: "84px", cell: (one) => one.attempt.from, value: (one) => one.attempt.from },
  { id: "to", title: "To", width: "19%", cell: (one) => one.attempt.to, value: (one) => one.attempt.to },
  { id: "by", title: "By", width: "21%", cell: (one) => <span title={one.attempt.host}>{one.attempt.by === "name" ? `name ${one.attempt.host.split(".").slice(0, 2).join(".")}` : one.attempt.host}</span>, value: (one) => one.attempt.host },
  { id: "family", title: "Family", width: "68px", cell: (one) => one.attempt.family, value: (one) => one.attempt.family },
  { id: "ms", title: "ms", width: "76px", number: true, cell: (one) => (one.answer.connectMs ?? one.answer.lookUpMs) == null ? "–" : digits((one.answer.connectMs ?? one.answer.lookUpMs)!), value: (one) => one.answer.connectMs ?? one.answer.lookUpMs ?? -1 },
  { id: "said", title: "Outcome", cell: (one) => <span title={answerWords(one)}>{answerWords(one)}</span>, value: answerWords },
];

/** Has the agents try names and connections now, and shows which ways work. */
export function ProbeDialog({ cluster, inventory, close }: { cluster: string; inventory: Schemas["InventoryView"]; close: () => void }) {
  const objects = useQuery({ queryKey: ["objects", cluster], queryFn: () => got(api.GET("/api/clusters/{name}/objects", { params: { path: { name: cluster } } })) });
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const choices = targets(inventory, objects.data?.services ?? []);
  const chosen = choices.find((choice) => choice.id === to) ?? choices[0];
  const probe = useMutation({ mutationFn: (body: Schemas["ProbeRequest"]) => got(api.POST("/api/clusters/{name}/probe", { params: { path: { name: cluster } }, body })) });
  const outcomes = probe.data?.outcomes ?? [];
  const failed = outcomes.filter((one) => one.answer.error).length;
  return (
    <Dialog title={`Probe ${cluster}`} width={860} onClose={close} actions={<>
      {outcomes.length > 0 && <CopyCsv columns={columns} rows={outcomes} />}
      <Button main isDisabled={probe.isPending || !chosen} onPress={() => chosen && probe.mutate({ from: from || null, kind: chosen.kind, namespace: chosen.namespace, name: chosen.name })}>{probe.isPending ? "Trying" : "Probe"}</Button>
    </>}>
      <Quiet>The agents look names up and open connections from their nodes, as pods there would. Nothing is sent on them.</Quiet>
      <Row $gap={12}>
        <Choose label="from" value={from} onChange={setFrom} options={[{ id: "", text: "every node" }, ...inventory.nodes.map((node) => ({ id: node.name, text: node.name }))]} />
        <Choose label="to" value={chosen?.id ?? ""} onChange={setTo} options={choices.map((choice) => ({ id: choice.id, text: choice.text }))} />
      </Row>
      {probe.error ? <Trouble error={probe.error} /> : null}
      {probe.data?.warning ? <Quiet role="status">{probe.data.warning}</Quiet> : null}
      {outcomes.length > 0 && <>
        <div role="status"><Mark level={failed > 0 ? "critical" : "clear"} /> {failed === 0 ? `All ${outcomes.length} ways work.` : `${failed} of ${outcomes.length} ways fail.`}</div>
        <Results><Table label="Outcomes" columns={columns} rows={[...outcomes].sort((a, b) => Number(!!b.answer.error) - Number(!!a.answer.error))} rowKey={(one) => `${one.attempt.from} ${one.attempt.to} ${one.attempt.host} ${one.attempt.family}`} /></Results>
      </>}
    </Dialog>
  );
}
