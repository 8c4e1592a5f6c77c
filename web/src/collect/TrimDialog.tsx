import { useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Heading, Mono, Quiet, Row, Trouble, Waiting } from "../parts/basics";
import { digits, whole } from "../parts/format";
import { Dialog } from "../parts/overlays";
import { CopyCsv, Table, type Column } from "../parts/Table";
import { ago, exact } from "../parts/time";

type Plan = Schemas["CollectionPlan"];
type Metric = Schemas["MetricCost"];
type Line = Schemas["LineCost"];

const Part = styled.div`display: flex; flex-direction: column; min-height: 0; max-height: 34vh;`;
const Ruled = styled.div`display: flex; flex-wrap: wrap; gap: 2px 14px; align-items: center;`;

const ruleWords = (rule: Schemas["MetricRule"]) => (rule.leaveOut ? `${rule.metric} left out` : [rule.withoutLabels?.length ? `${rule.metric} without ${rule.withoutLabels.join(", ")}` : "", rule.as ? `${rule.metric} as ${rule.as}` : ""].filter(Boolean).join(", "));

/** A plan with one more rule about a metric; a rule there was about it gives way. */
export function withMetricRule(plan: Plan, rule: Schemas["MetricRule"]): Plan {
  if (!plan.metrics) return plan;
  return { ...plan, metrics: { ...plan.metrics, rules: [...(plan.metrics.rules ?? []).filter((one) => one.metric !== rule.metric), rule] } };
}

/** A plan that leaves one more kind of line out. */
export function withLineRule(plan: Plan, rule: Schemas["LineRule"]): Plan {
  if (!plan.logs) return plan;
  return { ...plan, logs: { ...plan.logs, leftOut: [...(plan.logs.leftOut ?? []).filter((one) => one.kind !== rule.kind || one.workload !== rule.workload), rule] } };
}

/** What costs more than it tells: what each metric and kind of line costs, and what would be lost without it. */
export function TrimDialog({ cluster, plan, change, close }: { cluster: string; plan: Plan; change: (plan: Plan) => void; close: () => void }) {
  const looked = useQuery({ queryKey: ["trimming", cluster], queryFn: () => got(api.GET("/api/clusters/{name}/collection/trimming", { params: { path: { name: cluster } } })) });
  const [rules, leftOut] = [plan.metrics?.rules ?? [], plan.logs?.leftOut ?? []];
  const ruled = (metric: string) => rules.find((rule) => rule.metric === metric);
  const all = (looked.data?.metrics ?? []).reduce((total, metric) => total + metric.series, 0);
  const metrics: Column<Metric>[] = [
    { id: "metric", title: "Metric", width: "24%", cell: (row) => row.metric, value: (row) => row.metric },
    { id: "series", title: "Series", width: "116px", number: true, cell: (row) => `${whole(row.series)}, ${all > 0 ? Math.round((row.series / all) * 100) : 0} %`, value: (row) => row.series },
    { id: "rate", title: "Samples/s", width: "96px", number: true, cell: (row) => digits(row.samplesPerSecond), value: (row) => row.samplesPerSecond },
    { id: "used", title: "Who asks for it", cell: (row) => row.usedBy.join(", ") || (row.lastAsked ? <span title={exact(Date.parse(row.lastAsked))}>a person, {ago(Date.parse(row.lastAsked), Date.now())}</span> : <Quiet>nobody so far</Quiet>), value: (row) => row.usedBy.join(", ") || row.lastAsked || "" },
    { id: "label", title: "Label with most series", width: "18%", cell: (row) => (row.label ? <span title={`${row.seriesWithout} series without it`}>{row.explodes ? <b>{row.label}, {whole(row.values)} values</b> : `${row.label}, ${whole(row.values)} values`}</span> : ""), value: (row) => (row.label ? `${row.label}, ${row.values} values` : "") },
    { id: "act", title: "", width: "196px", cell: (row) => (ruled(row.metric) ? <Quiet>{ruleWords(ruled(row.metric)!).replace(row.metric + " ", "")}</Quiet> : <Row $gap={6}>
      <Button bare aria-label={`Leave out ${row.metric}`} onPress={() => change(withMetricRule(plan, { metric: row.metric, leaveOut: true, withoutLabels: null, as: null }))}>Leave out</Button>
      {row.label && <Button bare aria-label={`Take ${row.label} off ${row.metric}`} onPress={() => change(withMetricRule(plan, { metric: row.metric, leaveOut: false, withoutLabels: [row.label!], as: null }))}>Take {row.label} off</Button>}</Row>) },
  ];
  const lines: Column<Line>[] = [
    { id: "workload", title: "Workload", width: "20%", cell: (row) => row.workload, value: (row) => row.workload },
    { id: "rate", title: "Lines/s", width: "116px", number: true, cell: (row) => `${digits(row.linesPerSecond)}, ${Math.round(row.share * 100)} %`, value: (row) => row.linesPerSecond },
    { id: "kind", title: "Kind of line", cell: (row) => <Mono title={row.example}>{row.kind}</Mono>, value: (row) => row.kind },
    { id: "act", title: "", width: "96px", cell: (row) => (leftOut.some((rule) => rule.kind === row.kind && rule.workload === row.workload) ? <Quiet>left out</Quiet>
      : <Button bare aria-label={`Leave out ${row.kind}`} onPress={() => change(withLineRule(plan, { workload: row.workload, kind: row.kind }))}>Leave out</Button>) },
  ];
  const effect = looked.data?.effect;
  return (
    <Dialog title={`What costs more than it tells, in ${cluster}`} width={1080} onClose={close}>
      <Quiet>Measured over 5 min. What you choose here changes the draft; it is in force after a roll-out. What is stored stays.</Quiet>
      {(rules.length > 0 || leftOut.length > 0) && <Ruled role="group" aria-label="Rules of the draft"><b>Rules of the draft</b>
        {rules.map((rule) => <span key={rule.metric}>{ruleWords(rule)} <Button bare aria-label={`Take back: ${ruleWords(rule)}`} onPress={() => change({ ...plan, metrics: { ...plan.metrics!, rules: rules.filter((one) => one !== rule) } })}>Take back</Button></span>)}
        {leftOut.map((rule) => <span key={rule.workload + rule.kind}><Mono>{rule.kind}</Mono> of {rule.workload || "any workload"} left out <Button bare aria-label={`Take back: ${rule.kind}`} onPress={() => change({ ...plan, logs: { ...plan.logs!, leftOut: leftOut.filter((one) => one !== rule) } })}>Take back</Button></span>)}
      </Ruled>}
      {looked.error ? <Trouble error={looked.error} /> : null}
      {looked.isPending && <Waiting what="Measuring" />}
      {looked.data && <>
        <Part><Row style={{ justifyContent: "space-between" }}><Heading>Metrics</Heading><CopyCsv columns={metrics} rows={looked.data.metrics} /></Row><Table label="Costs of metrics" columns={metrics} rows={looked.data.metrics} rowKey={(row) => row.metric} /></Part>
        <Part><Heading>Lines of the four workloads that write most</Heading><Table label="Costs of lines" columns={lines} rows={looked.data.lines} rowKey={(row) => row.workload + row.kind} /></Part>
        {effect && Object.keys(effect.after).length > 0 && <Quiet>What revision {effect.revision} changed, a second: {["metrics", "logs", "traces", "flows"].filter((signal) => effect.before[signal] || effect.after[signal]).map((signal) => `${signal} ${digits(effect.before[signal] ?? 0)} → ${digits(effect.after[signal] ?? 0)}`).join(", ")} (ten minutes before it, and since, at most ten).</Quiet>}
      </>}
    </Dialog>
  );
}
