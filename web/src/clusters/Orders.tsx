import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Heading, Mark, Mono, Quiet, Row, Trouble, Waiting } from "../parts/basics";
import { Dialog } from "../parts/overlays";
import { exact } from "../parts/time";
import { standing } from "./order";

const Strip = styled(Card)`padding: 8px 14px; margin-bottom: 12px; display: flex; flex-direction: column; gap: 4px; > div { justify-content: space-between; }`;
const Grid = styled.div`display: grid; grid-template-columns: 24px 190px 1fr; gap: 4px 10px; align-items: baseline; margin: 6px 0 10px;`;
const Compare = styled.table`width: 100%; border-collapse: collapse; th, td { text-align: left; padding: 4px 8px; border-top: 1px solid ${({ theme }) => theme.rule}; } th { font-weight: 600; color: ${({ theme }) => theme.ink2}; }`;

/** Every order; asked often while one is being built. */
export function useOrders() {
  return useQuery({ queryKey: ["orders"], queryFn: () => got(api.GET("/api/orders")), refetchInterval: (query) => (query.state.data?.some((order) => !order.connectedAt) ? 1000 : 30_000) });
}

/** What is being built now. */
export function Building({ orders, see }: { orders: Schemas["OrderView"][]; see: (name: string) => void }) {
  const running = orders.filter((order) => !order.connectedAt);
  if (running.length === 0) return null;
  return <Strip role="status">{running.map((order) => {
    const { words, level, done } = standing(order);
    return <Row key={order.order.name}><span><Mark level={level} /> <b>{order.order.name}</b> is being built, stage {Math.min(done + 1, Math.max(order.stages.length, 1))} of {order.stages.length || "?"}. <Quiet>{words}</Quiet></span><Button onPress={() => see(order.order.name)}>See the stages</Button></Row>;
  })}</Strip>;
}

const marks: Record<string, Schemas["HealthLevel"]> = { done: "clear", going: "warning", failed: "critical" };

/** One order: its stages, what was ordered beside what is there, and its end. */
export function OrderView({ name, orders, close, show, gone }: { name: string; orders: Schemas["OrderView"][] | undefined; close: () => void; show: () => void; gone: () => void }) {
  const queries = useQueryClient();
  const [removing, setRemoving] = useState(false);
  const remove = useMutation({ mutationFn: () => got(api.DELETE("/api/orders/{name}", { params: { path: { name } } })), onSuccess: () => { void queries.invalidateQueries(); gone(); } });
  const view = orders?.find((order) => order.order.name === name);
  if (!view) return <Dialog title={name} width={520} onClose={close}><Waiting what="Reading the order" /></Dialog>;
  if (removing) return (
    <Dialog title={`Remove ${name}?`} width={480} onClose={() => setRemoving(false)} actions={<Button main isDisabled={remove.isPending} onPress={() => remove.mutate()}>{remove.isPending ? "Removing" : `Remove ${name} and its machines`}</Button>}>
      The provider takes {name} and all its machines away with everything on them, and Skevin forgets its series. This cannot be undone.
      {remove.error ? <Trouble error={remove.error} /> : null}
    </Dialog>);
  const wrong = view.comparison.filter((row) => !row.matches).length;
  return (
    <Dialog title={view.connectedAt ? `${name}, as ordered` : `${name} is being built`} width={640} onClose={close} actions={<>
      <Button needs="installer" onPress={() => setRemoving(true)}>Remove</Button>
      {view.connectedAt && <Button main onPress={show}>Show {name}</Button>}
    </>}>
      <Quiet>Ordered by {view.orderedBy}, {exact(Date.parse(view.orderedAt))}{view.connectedAt ? `; connected ${exact(Date.parse(view.connectedAt))}` : ""}</Quiet>
      {view.trouble ? <Trouble error={view.trouble} /> : null}
      <Grid role="status">{view.stages.flatMap((stage) => [<span key={stage.name + "mark"}>{marks[stage.state] && <Mark level={marks[stage.state]!} title={stage.state} />}</span>, <span key={stage.name} style={{ opacity: stage.state === "waiting" ? 0.75 : 1 }}>{stage.name}</span>, <Quiet key={stage.name + "detail"}>{stage.state === "waiting" ? "not begun" : stage.detail}</Quiet>])}</Grid>
      {view.comparison.length > 0 && <>
        <Heading>{wrong === 0 ? "It is what was ordered" : `${wrong} ${wrong === 1 ? "thing is" : "things are"} not as ordered`}</Heading>
        <Compare><thead><tr><th></th><th>ordered</th><th>found</th></tr></thead><tbody>{view.comparison.map((row) => <tr key={row.what}><td><Mark level={row.matches ? "clear" : "major"} title={row.matches ? "as ordered" : "not as ordered"} /> {row.what}</td><td><Mono>{row.ordered}</Mono></td><td><Mono>{row.found || "none"}</Mono></td></tr>)}</tbody></Compare>
      </>}
    </Dialog>
  );
}
