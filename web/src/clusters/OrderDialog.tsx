import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got } from "../api/client";
import { Button, Heading, Mark, Quiet, Row, Trouble, Waiting } from "../parts/basics";
import { Choose, Switch, TextInput } from "../parts/fields";
import { digits } from "../parts/format";
import { Dialog } from "../parts/overlays";
import { readOrder, suggested, type Order } from "./order";

const Sections = styled.div`
  display: grid; grid-template-columns: 130px 1fr; gap: 10px 16px; align-items: start;
  > h3 { margin: 6px 0 0; font-size: 13px; }
  > div { display: flex; gap: 10px; flex-wrap: wrap; align-items: center; min-height: 32px; }
  .number { width: 64px; }
`;
const Review = styled.div`
  border-top: 1px solid ${({ theme }) => theme.rule}; padding-top: 8px; display: grid; grid-template-columns: 1fr 1fr; gap: 4px 20px; min-height: 150px;
  ul { margin: 4px 0 0; padding-left: 18px; }
`;

/** Orders a cluster in ordered sections, looked through as one goes. */
export function OrderDialog({ close, done }: { close: () => void; done: (name: string) => void }) {
  const queries = useQueryClient();
  const offers = useQuery({ queryKey: ["offers"], retry: false, queryFn: () => got(api.GET("/api/orders/offers")) });
  const [draft, setDraft] = useState<Order | null>(null);
  const [unread, setUnread] = useState<unknown>(null);
  const order = draft ?? (offers.data ? suggested(offers.data) : null);
  const review = useQuery({ queryKey: ["order-review", order], enabled: !!order, placeholderData: keepPreviousData, queryFn: () => got(api.POST("/api/orders/review", { body: order! })) });
  const place = useMutation({ mutationFn: (body: Order) => got(api.POST("/api/orders", { body })), onSuccess: (_, body) => { void queries.invalidateQueries({ queryKey: ["orders"] }); done(body.name); } });
  if (offers.error) return <Dialog title="Order a cluster" width={560} onClose={close}><Trouble error={offers.error} /></Dialog>;
  if (!offers.data || !order) return <Dialog title="Order a cluster" width={560} onClose={close}><Waiting what="Asking the provider what it offers" /></Dialog>;
  const change = (part: Partial<Order>) => setDraft({ ...order, ...part });
  const group = (i: number, part: Partial<Order["groups"][number]>) => change({ groups: order.groups.map((one, j) => (i === j ? { ...one, ...part } : one)) });
  const { problems, warnings, makes, machines, cores, memoryGib, pricePerHour, currency } = review.data ?? { problems: [], warnings: [], makes: [], machines: 0, cores: 0, memoryGib: 0, pricePerHour: null, currency: null };
  const wrong = (field: string) => problems.filter((problem) => problem.field === field && (field !== "name" || order.name)).map((problem) => <Trouble key={problem.text} error={problem.text} />);
  const chosen = order.services ?? [];
  const load = () => {
    const input = document.createElement("input");
    input.type = "file"; input.accept = "application/json,.json";
    input.onchange = async () => { setUnread(null); try { const file = input.files?.[0]; if (file) setDraft(readOrder(await file.text())); } catch (error) { setUnread(error); } };
    input.click();
  };
  const save = () => { const link = document.createElement("a"); link.href = URL.createObjectURL(new Blob([JSON.stringify(order, null, 2) + "\n"], { type: "application/json" })); link.download = `${order.name || "cluster"}-order.json`; link.click(); };
  return (
    <Dialog title={`Order a cluster from the ${offers.data.provider}`} width={840} onClose={close} actions={<>
      <Button onPress={load}>From a file</Button><Button onPress={save}>Save as file</Button>
      <Button main isDisabled={place.isPending || problems.length > 0 || !order.name} onPress={() => place.mutate(order)}>{place.isPending ? "Ordering" : "Order it"}</Button>
    </>}>
      {unread ? <Trouble error={unread} /> : null}
      {place.error ? <Trouble error={place.error} /> : null}
      <Sections>
        <h3>1 Name</h3><div><TextInput label="Name" hideLabel value={order.name} onChange={(name) => change({ name })} autoFocus /><Choose label="version" value={order.version} onChange={(version) => change({ version })} options={offers.data.versions.map((version) => ({ id: version.name, text: version.name }))} /><Quiet>{offers.data.versions.find((version) => version.name === order.version)?.note}</Quiet>{wrong("name")}{wrong("version")}</div>
        <h3>2 Machines</h3><div>{order.groups.map((one, i) => (
          <Row key={i} $gap={8}><span style={{ width: 92 }}>{one.role}</span><div className="number"><TextInput label={`${one.role} machines`} hideLabel value={String(one.count)} onChange={(text) => group(i, { count: Math.max(0, Number.parseInt(text, 10) || 0) })} /></div>
            <Choose label="of" value={one.size} onChange={(size) => group(i, { size })} options={offers.data.sizes.map((size) => ({ id: size.name, text: `${size.name}: ${size.cores} cores, ${size.memoryGib} GiB${size.pricePerHour == null ? "" : `, ${size.pricePerHour} ${offers.data.currency} an hour`}` }))} /></Row>))}{wrong("groups")}</div>
        <h3>3 Addresses</h3><div><Choose label="families" value={order.families ?? "both"} onChange={(families) => change({ families: families as Order["families"] })} options={[{ id: "both", text: "IPv4 and IPv6" }, { id: "v4", text: "IPv4 alone" }, { id: "v6", text: "IPv6 alone" }]} /></div>
        <h3>4 Network</h3><div><Choose label="of pods" value={order.network ?? ""} onChange={(network) => change({ network: network || null })} options={[...offers.data.networks.map((network) => ({ id: network.name, text: network.title })), { id: "", text: "none: I install one" }]} />{wrong("network")}</div>
        <h3>5 Base services</h3><div>{offers.data.services.map((service) => <Switch key={service.name} on={chosen.includes(service.name)} onChange={(on) => change({ services: on ? [...chosen, service.name] : chosen.filter((name) => name !== service.name) })}>{service.title}</Switch>)}{wrong("services")}</div>
      </Sections>
      <Review aria-live="polite">
        <div><Heading>6 What is made</Heading><ul>{makes.map((text) => <li key={text}>{text}</li>)}</ul></div>
        <div><Heading>{machines} machines, {digits(cores)} cores, {digits(memoryGib)} GiB{pricePerHour == null ? "" : `, ${pricePerHour.toFixed(2)} ${currency} an hour`}</Heading>
          {warnings.map((text) => <div key={text}><Mark level="warning" /> {text}</div>)}</div>
      </Review>
    </Dialog>
  );
}
