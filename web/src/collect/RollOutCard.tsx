import { useMutation, useQueryClient } from "@tanstack/react-query";
import styled, { useTheme } from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Empty, Heading, Mark, Quiet, Row, Trouble } from "../parts/basics";
import { exact } from "../parts/time";
import { rollOutWords } from "./rollOut";

type Stage = Schemas["RollOutStage"];

const Agents = styled.div`
  display: grid;
  grid-template-columns: 120px 220px 1fr;
  gap: 4px 14px;
  padding: 8px 14px 12px;
  align-items: center;
`;

const stages: Stage[] = ["waiting", "starting", "ready"];
const stageWords: Record<Stage, string> = { waiting: "waiting for its turn", starting: "starting", ready: "ready", stuck: "stuck" };

function StageBar({ stage }: { stage: Stage }) {
  const theme = useTheme();
  const reached = stage === "stuck" ? 1 : stages.indexOf(stage);
  const colours = [theme.ink2, theme.logs, stage === "stuck" ? theme.critical : theme.clear];
  return <svg width="100%" height="12" role="img" aria-label={stageWords[stage]}>{[0, 1, 2].map((i) => <rect key={i} x={`${i * 33.4}%`} width="32.6%" height={12} fill={i <= reached ? colours[stage === "stuck" ? 2 : i] : theme.sunk} />)}</svg>;
}

/** The newest roll-out, agent by agent: it can be stopped where it is, let go on, or taken back. */
export function RollOutCard({ view, goBack, takeOut, busy }: { view: Schemas["CollectionView"]; goBack: (plan: Schemas["CollectionPlan"]) => void; takeOut: () => void; busy: boolean }) {
  const queries = useQueryClient();
  const hold = useMutation({
    mutationFn: (held: boolean) => got(api.POST("/api/clusters/{name}/collection/hold", { params: { path: { name: view.cluster } }, body: { held } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["collection", view.cluster] }),
  });
  const revision = view.revisions[0];
  const before = view.revisions.find((one) => one.revision < view.revision && one.appliedAt);
  const state = view.rollOut?.state;
  return (
    <Card style={state && state !== "done" ? { marginBottom: 12 } : { flex: 1, minHeight: 190 }}>
      <Row style={{ padding: "10px 14px 0", justifyContent: "space-between", minHeight: 42 }}>
        <Row $gap={10}>
          <Heading>{view.revision === 0 ? "Roll-out" : `Roll-out of revision ${view.revision}`}</Heading>
          {state === "going" && <Button needs="installer" isDisabled={hold.isPending} onPress={() => hold.mutate(true)}>Stop</Button>}
          {state === "held" && <Button needs="installer" main isDisabled={hold.isPending} onPress={() => hold.mutate(false)}>Go on</Button>}
          {state === "done" && <Button bare needs="installer" onPress={takeOut}>Take out of the cluster</Button>}
          {state && state !== "done" && before && <Button needs="installer" isDisabled={busy} onPress={() => goBack(before.plan)}>Go back to revision {before.revision}</Button>}
        </Row>
        <Quiet>{revision?.appliedAt ? `by ${revision.createdBy}, ${exact(Date.parse(revision.appliedAt))}; ${rollOutWords(view.rollOut, view.revision)}` : revision ? "not all objects were applied; roll out again" : ""}</Quiet>
      </Row>
      {hold.error ? <Trouble error={hold.error} /> : null}
      {view.revision === 0 ? <Empty title="Nothing is rolled out yet">Choose what to collect, look at the manifests, then roll out. Each agent will be followed here until it is ready.</Empty> : (
        <Agents role="status">
          {view.agents.map((agent) => [
            <span key={agent.place}><Mark level={agent.stage === "ready" ? "clear" : agent.stage === "stuck" ? "critical" : "warning"} title={stageWords[agent.stage]} />{agent.place}</span>,
            <StageBar key={agent.place + "bar"} stage={agent.stage} />,
            <Quiet key={agent.place + "why"}>{agent.why ?? (agent.stage === "waiting" && state === "held" ? "held: its earlier agent goes on" : `${agent.pod} ${stageWords[agent.stage]}`.trim())}</Quiet>,
          ])}
        </Agents>
      )}
    </Card>
  );
}
