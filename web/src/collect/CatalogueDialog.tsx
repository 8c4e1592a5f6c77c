import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Empty, Mark, Quiet, Row, Trouble, Waiting } from "../parts/basics";
import { Switch } from "../parts/fields";
import { digits } from "../parts/format";
import { Dialog } from "../parts/overlays";
import { CopyCsv, Table, type Column } from "../parts/Table";

type Entry = Schemas["CatalogueEntry"];

const List = styled.div`height: 54vh; min-height: 240px; display: flex; flex-direction: column; border: 1px solid ${({ theme }) => theme.rule};`;
const rate = (value: number | null) => (value == null ? "–" : digits(value));

const columns: Column<Entry>[] = [
  { id: "mark", title: "", width: "28px", cell: (row) => <Mark level={row.advice.length > 0 ? "warning" : "clear"} title={row.advice.length > 0 ? "gives less than it could" : "everything it has is collected"} /> },
  { id: "workload", title: "Workload", width: "22%", cell: (row) => <span title={`${row.namespace}/${row.workload}`}>{row.namespace}/{row.workload}</span>, value: (row) => `${row.namespace}/${row.workload}` },
  { id: "endpoint", title: "Endpoint", width: "112px", cell: (row) => row.endpoint ?? "none", value: (row) => row.endpoint ?? "" },
  { id: "samples", title: "samples/s", width: "88px", number: true, cell: (row) => rate(row.samplesPerSecond), value: (row) => row.samplesPerSecond ?? -1 },
  { id: "lines", title: "lines/s", width: "74px", number: true, cell: (row) => rate(row.linesPerSecond), value: (row) => row.linesPerSecond ?? -1 },
  { id: "spans", title: "spans/s", width: "76px", number: true, cell: (row) => rate(row.spansPerSecond), value: (row) => row.spansPerSecond ?? -1 },
  { id: "advice", title: "What it could give, and what to do", cell: (row) => <span title={row.advice.join(" ")}>{row.advice.join(" ")}</span>, value: (row) => row.advice.join(" ") },
];

/** Every source found in the cluster, what it gives, and what it could give and does not. */
export function CatalogueDialog({ cluster, close }: { cluster: string; close: () => void }) {
  const found = useQuery({ queryKey: ["catalogue", cluster], queryFn: () => got(api.GET("/api/clusters/{name}/collection/catalogue", { params: { path: { name: cluster } } })) });
  const [less, setLess] = useState(false);
  const [open, setOpen] = useState<string | null>(null);
  const rows = (found.data ?? []).filter((row) => !less || row.advice.length > 0);
  const key = (row: Entry) => `${row.namespace}/${row.kind}/${row.workload}`;
  const chosen = rows.find((row) => key(row) === open);
  return (
    <Dialog title={`Sources found in ${cluster}`} width={980} onClose={close} actions={found.data && <CopyCsv columns={columns} rows={rows} />}>
      {found.error ? <Trouble error={found.error} /> : !found.data ? <Waiting what="Looking for sources" /> : <>
        <Row style={{ justifyContent: "space-between" }}><Quiet>What each workload gave over the last five minutes under the plan in force.</Quiet><Switch on={less} onChange={setLess}>Only what could give more</Switch></Row>
        <List>{rows.length === 0 ? <Empty title="Nothing could give more">Everything that was found is collected.</Empty> : <Table label="Sources" columns={columns} rows={rows} rowKey={key} chosen={open} onOpen={(row) => setOpen(key(row))} />}</List>
        {chosen && chosen.advice.length > 0 && <div role="status"><b>{chosen.namespace}/{chosen.workload}</b><ul style={{ margin: "4px 0 0", paddingLeft: 18 }}>{chosen.advice.map((text) => <li key={text}>{text}</li>)}</ul></div>}
      </>}
    </Dialog>
  );
}
