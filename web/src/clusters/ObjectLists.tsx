import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Card, Empty, Mark, Quiet, Row, Trouble, Waiting } from "../parts/basics";
import { whole } from "../parts/format";
import { Drawer } from "../parts/overlays";
import { CopyCsv, Table, type Column } from "../parts/Table";
import { ago, exact } from "../parts/time";

export const lists = ["Pods", "Readiness", "Workloads", "Services", "Entry points", "Configuration", "Storage", "Events", "Left open"] as const;
export type ListName = (typeof lists)[number];

const Body = styled(Card)`flex: 1; overflow: hidden; min-width: 0; display: flex; flex-direction: column;`;
const About = styled(Quiet)`overflow: hidden; text-overflow: ellipsis; white-space: nowrap; min-width: 0;`;
const Text = styled.pre`margin: 4px 0 10px; padding: 8px; max-height: 40vh; overflow: auto; font-size: 12px; background: ${({ theme }) => theme.ground}; border: 1px solid ${({ theme }) => theme.rule}; white-space: pre-wrap; overflow-wrap: anywhere;`;

interface Shown<T> { columns: Column<T>[]; rows: T[]; rowKey: (row: T) => string; empty: string; hint?: string; about: string; detail?: (row: T) => React.ReactNode; title?: (row: T) => string }

const mark = <T,>(level: (row: T) => Schemas["HealthLevel"]): Column<T> => ({ id: "mark", title: "", width: "28px", cell: (row) => <Mark level={level(row)} /> });
const why = <T,>(because: (row: T) => string[]): Column<T> => ({ id: "why", title: "What is wrong", cell: (row) => because(row).join(" "), value: (row) => because(row).join(" ") });
const age = <T,>(created: (row: T) => string, now: number): Column<T> => ({ id: "age", title: "Age", width: "104px", number: true, cell: (row) => <span title={exact(Date.parse(created(row)))}>{ago(Date.parse(created(row)), now).replace(" ago", "")}</span>, value: (row) => -Date.parse(created(row)) });
const place = <T,>(of: (row: T) => string): Column<T> => ({ id: "namespace", title: "Namespace", width: "110px", cell: of, value: of });

function List<T>({ name, head, shown }: { name: string; head: React.ReactNode; shown: Shown<T> }) {
  const [open, setOpen] = useState<string | null>(null);
  const chosen = shown.rows.find((row) => shown.rowKey(row) === open);
  return <>
    <Body>
      <Row style={{ padding: "6px 12px", justifyContent: "space-between" }}><Row style={{ minWidth: 0 }}>{head}{chosen === undefined && <About>{shown.about}</About>}</Row><CopyCsv columns={shown.columns} rows={shown.rows} /></Row>
      {shown.rows.length === 0 ? <Empty title={shown.empty}>{shown.hint ?? "Choose another namespace at the left."}</Empty>
        : <Table label={name} columns={shown.columns} rows={shown.rows} rowKey={shown.rowKey} chosen={open} onOpen={shown.detail ? (row) => setOpen(shown.rowKey(row)) : undefined} />}
    </Body>
    {chosen !== undefined && shown.detail && <Drawer title={shown.title!(chosen)} onClose={() => setOpen(null)}>{shown.detail(chosen)}</Drawer>}
  </>;
}

/** What a cluster holds beside nodes and pods, each judged. */
export function ObjectLists({ list, cluster, namespace, workload, workloads, readiness, now, head }: {
  list: Exclude<ListName, "Pods">; cluster: string; namespace: string; workload: string; workloads: Schemas["WorkloadView"][]; readiness: Schemas["ReadinessItem"][]; now: number; head: React.ReactNode;
}) {
  const objects = useQuery({ queryKey: ["objects", cluster], placeholderData: keepPreviousData, refetchInterval: 5000, queryFn: () => got(api.GET("/api/clusters/{name}/objects", { params: { path: { name: cluster } } })) });
  if (objects.error) return <Trouble error={objects.error} />;
  if (!objects.data) return <Waiting what="Reading the objects" />;
  const here = (ns: string) => !namespace || ns === namespace;
  const { services, entryPoints, configurations, storageClasses, claims, lacking } = objects.data;
  const inside = () => {
    switch (list) {
      case "Readiness": return <List name={list} head={head} shown={{
        rows: readiness, rowKey: (row) => row.what, empty: "Readiness is for readers of the whole cluster", hint: "Your scope is a part of it.", about: "what waits for what, from the top",
        columns: [mark((row) => row.level), { id: "what", title: "Needed", width: "150px", cell: (row) => row.what, value: (row) => row.what }, { id: "found", title: "Found", width: "34%", cell: (row) => <span title={row.found}>{row.found}</span>, value: (row) => row.found },
          { id: "fix", title: "What to do", cell: (row) => <span title={row.fix ?? ""}>{row.fix ?? ""}</span>, value: (row) => row.fix ?? "" }],
        title: (row) => row.what, detail: (row) => <><p><Mark level={row.level} /> {row.found}</p>{row.fix && <><h3>What to do</h3><p>{row.fix}</p></>}</>,
      } satisfies Shown<Schemas["ReadinessItem"]>} />;
      case "Left open": return <LeftOpenList cluster={cluster} namespace={namespace} head={head} />;
      case "Workloads": return <List name={list} head={head} shown={{
        rows: workloads.filter((row) => here(row.namespace) && (!workload || row.name === workload)), rowKey: (row) => `${row.namespace}/${row.kind}/${row.name}`, empty: "No workloads here", about: "what keeps pods running",
        columns: [mark((row) => row.level), place((row) => row.namespace), { id: "name", title: "Workload", width: "22%", cell: (row) => row.name, value: (row) => row.name }, { id: "kind", title: "Kind", width: "110px", cell: (row) => row.kind, value: (row) => row.kind },
          { id: "ready", title: "Ready", width: "84px", number: true, cell: (row) => `${row.ready} of ${row.desired}`, value: (row) => row.ready }, { id: "updated", title: "Updated", width: "84px", number: true, cell: (row) => row.updated, value: (row) => row.updated },
          { id: "restarts", title: "Restarts", width: "84px", number: true, cell: (row) => row.restarts, value: (row) => row.restarts }, why((row) => row.because)],
      } satisfies Shown<Schemas["WorkloadView"]>} />;
      case "Services": return <List name={list} head={head} shown={{
        rows: services.filter((row) => here(row.service.namespace) && (!workload || row.service.name === workload)), rowKey: (row) => `${row.service.namespace}/${row.service.name}`, empty: "No services here", about: "one name and address for the pods a selector matches",
        columns: [mark((row) => row.level), place((row) => row.service.namespace), { id: "name", title: "Service", width: "16%", cell: (row) => row.service.name, value: (row) => row.service.name },
          { id: "type", title: "Type", width: "92px", cell: (row) => row.service.type, value: (row) => row.service.type },
          { id: "addresses", title: "Inside addresses", width: "24%", cell: (row) => row.service.addresses.join(", ") || "none", value: (row) => row.service.addresses.join(", ") },
          { id: "ports", title: "Ports", width: "84px", cell: (row) => row.service.ports.map((port) => port.number).join(", "), value: (row) => row.service.ports.map((port) => port.number).join(", ") },
          { id: "pods", title: "Pods ready", width: "96px", number: true, cell: (row) => `${row.readyPods} of ${row.pods}`, value: (row) => row.readyPods }, why((row) => row.because)],
        title: (row) => row.service.name,
        detail: (row) => <>{row.because.length > 0 && <><h3>What is wrong</h3>{row.because.map((text) => <div key={text}><Mark level={row.level} /> {text}</div>)}</>}
          <h3>Whom it leads to</h3><dl>{Object.entries(row.service.selector).map(([key, value]) => [<dt key={key}>{key}</dt>, <dd key={key + "v"}>{value}</dd>])}<dt>pods</dt><dd>{row.readyPods} of {row.pods} ready</dd></dl>
          <h3>Ports</h3><dl>{row.service.ports.map((port) => [<dt key={port.number}>{port.name || port.number}</dt>, <dd key={port.number + "v"}>{port.number} → {port.target}, {port.protocol}</dd>])}</dl>
          {row.service.outside && <><h3>Outside</h3>{row.service.outside.join(", ") || "its address is awaited"}</>}
          <h3>Addresses</h3>{row.service.addresses.map((address) => <div key={address}>{address}</div>)}<Quiet>made {exact(Date.parse(row.service.created))}</Quiet></>,
      } satisfies Shown<Schemas["ServiceView"]>} />;
      case "Entry points": return <List name={list} head={head} shown={{
        rows: entryPoints.filter((row) => here(row.entry.namespace)), rowKey: (row) => `${row.entry.namespace}/${row.entry.name}`, empty: "No entry points here", about: "where traffic comes in from outside",
        columns: [mark((row) => row.level), place((row) => row.entry.namespace), { id: "name", title: "Entry point", width: "13%", cell: (row) => row.entry.name, value: (row) => row.entry.name },
          { id: "until", title: "Certificate until", width: "128px", cell: (row) => (row.until ? <span title={exact(Date.parse(row.until))}>{row.until.slice(0, 10)}</span> : "none"), value: (row) => row.until ?? "" },
          { id: "address", title: "Outside address", width: "118px", cell: (row) => row.entry.addresses.join(", ") || "awaited", value: (row) => row.entry.addresses.join(", ") },
          { id: "routes", title: "Leads", width: "25%", cell: (row) => row.entry.routes.map((route) => `${route.host || "any host"}${route.path} → ${route.service}:${route.port}`).join("; "), value: (row) => row.entry.routes.map((route) => `${route.host}${route.path} → ${route.service}:${route.port}`).join("; ") }, why((row) => row.because)],
        title: (row) => row.entry.name, detail: (row) => <>
          {row.because.length > 0 && <><h3>What is wrong</h3>{row.because.map((text) => <p key={text}><Mark level={row.level} /> {text}</p>)}</>}
          <h3>Leads</h3>{row.entry.routes.map((route) => <p key={route.host + route.path}>{route.host || "any host"}{route.path} → {route.service}:{route.port}</p>)}
          <h3>Certificates</h3>{(row.entry.certificates ?? []).length === 0 ? <p>none: it is reached unencrypted</p> : (row.entry.certificates ?? []).map((one) => <p key={one.secret}>{one.secret}, for {one.hosts.join(", ") || "every host"}{row.until ? `, until ${exact(Date.parse(row.until))}` : ""}</p>)}
        </>,
      } satisfies Shown<Schemas["EntryPointView"]>} />;
      case "Configuration": return <List name={list} head={head} shown={{
        rows: configurations.filter((row) => here(row.configuration.namespace)), rowKey: (row) => `${row.configuration.namespace}/${row.configuration.name}`, empty: "No configuration objects here", about: "what pods are given to read",
        columns: [place((row) => row.configuration.namespace), { id: "name", title: "Object", width: "22%", cell: (row) => row.configuration.name, value: (row) => row.configuration.name },
          { id: "keys", title: "Entries", width: "24%", cell: (row) => Object.entries(row.configuration.keys).map(([key, size]) => `${key} (${whole(size)})`).join("; "), value: (row) => Object.keys(row.configuration.keys).join(", ") },
          { id: "used", title: "Given to", cell: (row) => row.usedBy.join(", ") || <Quiet>no running pod</Quiet>, value: (row) => row.usedBy.join(", ") }, age((row) => row.configuration.created, now)],
        title: (row) => row.configuration.name, detail: (row) => <ConfigurationText cluster={cluster} namespace={row.configuration.namespace} name={row.configuration.name} />,
      } satisfies Shown<Schemas["ConfigurationView"]>} />;
      case "Storage": return <><List name="Claims for storage" head={head} shown={{
        rows: claims.filter((row) => here(row.claim.namespace)), rowKey: (row) => `${row.claim.namespace}/${row.claim.name}`, empty: "No claims for storage here", about: "what pods keep",
        columns: [mark((row) => row.level), place((row) => row.claim.namespace), { id: "name", title: "Claim", width: "26%", cell: (row) => row.claim.name, value: (row) => row.claim.name },
          { id: "class", title: "Class", width: "90px", cell: (row) => row.claim.class || "default", value: (row) => row.claim.class }, { id: "size", title: "Size", width: "72px", cell: (row) => row.claim.size, value: (row) => row.claim.size }, { id: "phase", title: "Phase", width: "82px", cell: (row) => row.claim.phase, value: (row) => row.claim.phase }, why((row) => row.because)],
      } satisfies Shown<Schemas["ClaimView"]>} />
        {storageClasses.length > 0 && <div style={{ width: 340, display: "flex" }}><List name="Storage classes" head={<b>Storage classes</b>} shown={{
          rows: storageClasses, rowKey: (row) => row.name, empty: "No storage classes", about: "",
          columns: [{ id: "name", title: "Class", cell: (row) => <>{row.name}{row.default && <Quiet> (default)</Quiet>}</>, value: (row) => row.name }, { id: "reclaim", title: "When let go", cell: (row) => (row.reclaim === "Retain" ? "kept" : "deleted"), value: (row) => row.reclaim }],
        } satisfies Shown<Schemas["StorageClassState"]>} /></div>}</>;
      case "Events": return <Events cluster={cluster} namespace={namespace} now={now} head={head} />;
    }
  };
  return <>{lacking.length > 0 && list !== "Workloads" && list !== "Events" && <Trouble error={`Not everything can be read here: ${lacking.join("; ")}. Give the kubeconfig's account the right to list and watch it.`} />}{inside()}</>;
}

function ConfigurationText({ cluster, namespace, name }: { cluster: string; namespace: string; name: string }) {
  const text = useQuery({ queryKey: ["configuration", cluster, namespace, name], queryFn: () => got(api.GET("/api/clusters/{name}/configurations/{ns}/{configuration}", { params: { path: { name: cluster, ns: namespace, configuration: name } } })) });
  if (text.error) return <Trouble error={text.error} />;
  if (!text.data) return <Waiting what="Reading the text" />;
  return <>{Object.entries(text.data).map(([key, value]) => <div key={key}><h3>{key}</h3><Text tabIndex={0}>{value}</Text></div>)}</>;
}

interface EventRow { time: number; level: string; namespace: string; object: string; reason: string; text: string; count: string }

/** Events of the last two hours, as they were collected. */
function Events({ cluster, namespace, now, head }: { cluster: string; namespace: string; now: number; head: React.ReactNode }) {
  const asked = useQuery({ queryKey: ["events", cluster, namespace, now], placeholderData: keepPreviousData, queryFn: async () => {
    const answer = await got(api.POST("/api/ask", { body: { text: "events -> show time, level, namespace, k8s.object.name, k8s.event.reason, text, k8s.event.count -> first 500", from: new Date(now - 7_200_000).toISOString(), to: new Date(now).toISOString(), cluster, scope: { namespace: namespace || null, workload: null }, page: { size: 500, after: null } } }));
    return (answer.rows ?? []).map((row): EventRow => { const [time, level, ns, object, reason, text, count] = row as (string | number | null)[]; return { time: Number(time), level: String(level ?? ""), namespace: String(ns ?? ""), object: String(object ?? ""), reason: String(reason ?? ""), text: String(text ?? ""), count: String(count ?? "1") }; });
  } });
  if (asked.error) return <Trouble error={asked.error} />;
  if (!asked.data) return <Waiting what="Reading the events" />;
  return <List name="Events" head={head} shown={{
    rows: asked.data, rowKey: (row) => `${row.time}${row.object}${row.reason}${row.count}`, empty: "No events in the last two hours", hint: "Events are collected with the logs; see under Collect whether they are.", about: "of the last two hours, as they were collected",
    columns: [mark((row) => (row.level === "warn" || row.level === "error" ? "minor" : "clear")), { id: "time", title: "When", width: "104px", number: true, cell: (row) => <span title={exact(row.time)}>{ago(row.time, now).replace(" ago", "")}</span>, value: (row) => -row.time }, place((row) => row.namespace),
      { id: "object", title: "Of", width: "22%", cell: (row) => row.object, value: (row) => row.object }, { id: "reason", title: "Reason", width: "130px", cell: (row) => row.reason, value: (row) => row.reason },
      { id: "count", title: "Times", width: "64px", number: true, cell: (row) => row.count, value: (row) => Number(row.count) }, { id: "text", title: "What happened", cell: (row) => row.text, value: (row) => row.text }],
  } satisfies Shown<EventRow>} />;
}

/** What was left open for convenience, until it is closed. */
function LeftOpenList({ cluster, namespace, head }: { cluster: string; namespace: string; head: React.ReactNode }) {
  const open = useQuery({ queryKey: ["left-open", cluster], placeholderData: keepPreviousData, refetchInterval: 15_000, queryFn: () => got(api.GET("/api/clusters/{name}/left-open", { params: { path: { name: cluster } } })) });
  if (open.error) return <Trouble error={open.error} />;
  if (!open.data) return <Waiting what="Looking for what is open" />;
  const cut = (text: string) => <span title={text}>{text}</span>;
  return <List name="Left open" head={head} shown={{
    rows: open.data.filter((row) => !namespace || row.namespace === namespace), rowKey: (row) => `${row.where} ${row.what}`, empty: "Nothing is left open here", hint: "What is opened for convenience is listed here until it is closed.", about: "until it is closed",
    columns: [mark((row) => row.level), { id: "where", title: "Where", width: "20%", cell: (row) => cut(row.where), value: (row) => row.where }, { id: "what", title: "What is open", width: "28%", cell: (row) => cut(row.what), value: (row) => row.what },
      { id: "risk", title: "Risk", width: "24%", cell: (row) => cut(row.risk), value: (row) => row.risk }, { id: "act", title: "What closes it", cell: (row) => cut(row.act), value: (row) => row.act }],
    title: (row) => row.where, detail: (row) => <><p><Mark level={row.level} /> {row.what}</p><h3>Risk</h3><p>{row.risk}</p><h3>What closes it</h3><p>{row.act}</p>{row.place && <p><Link to={{ pathname: row.place, search: `cluster=${cluster}` }}>Go there</Link></p>}</>,
  } satisfies Shown<Schemas["OpenItem"]>} />;
}
