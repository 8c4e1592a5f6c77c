import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got, Problem, type Schemas } from "../api/client";
import { Button, Card, Empty, Quiet, Row, Title, Trouble } from "../parts/basics";
import { TextInput } from "../parts/fields";
import { Drawer } from "../parts/overlays";
import { CopyCsv, Table, type Column } from "../parts/Table";
import { exact } from "../parts/time";
import { useClusters } from "../shell/ScopeTree";
import { PersonEditor } from "./PersonEditor";
import { scopeText } from "./scope";

const Panels = styled.div`display: flex; gap: 12px; min-height: 0; flex: 1; > section { flex: 1; min-width: 0; display: flex; flex-direction: column; } aside { overflow: auto; }`;
const Head = styled(Row)`padding: 8px 14px; justify-content: space-between;`;

/** Who may do and see what, and what they did. */
export function PeoplePage({ session }: { session: Schemas["SessionView"] }) {
  const [shown, setShown] = useState<"people" | "audit">("people");
  if (!session.roles.includes("keeper")) return <Empty title="Only keepers see people">Ask a keeper for what you need.</Empty>;
  return (
    <>
      <Title about={shown === "people" ? "what each may do, and what they may see" : "who changed what, the newest first; kept 400 days"} actions={<Button aria-pressed={shown === "audit"} onPress={() => setShown(shown === "people" ? "audit" : "people")}>{shown === "people" ? "Audit log" : "People"}</Button>}>{shown === "people" ? "People" : "Audit log"}</Title>
      {shown === "people" ? <People /> : <Audit />}
    </>
  );
}

function People() {
  const queries = useQueryClient();
  const people = useQuery({ queryKey: ["people"], queryFn: () => got(api.GET("/api/people")) });
  const clusters = useClusters();
  const [chosen, setChosen] = useState<string | null>(null);
  const [made, setMade] = useState<{ email: string; password: string } | null>(null);
  const [error, setError] = useState<unknown>(null);
  const act = async (work: () => Promise<unknown>) => { try { setError(null); await work(); } catch (wrong) { setError(wrong); } void queries.invalidateQueries({ queryKey: ["people"] }); };
  const person = people.data?.find((one) => one.id === chosen);
  const columns: Column<Schemas["PersonView"]>[] = [
    { id: "name", title: "Name", width: "20%", cell: (row) => <>{row.name}{row.you && <Quiet> (you)</Quiet>}</>, value: (row) => row.name },
    { id: "email", title: "E-mail", width: "26%", cell: (row) => row.email, value: (row) => row.email },
    { id: "roles", title: "May", width: "28%", cell: (row) => row.roles.join(", ") || "nothing", value: (row) => row.roles.join(", ") },
    { id: "scope", title: "Sees", cell: (row) => scopeText(row), value: (row) => scopeText(row) },
  ];
  if (people.error) return <Trouble error={people.error} />;
  const save = (id: string | null) => (request: Schemas["PersonRequest"]) => act(async () => {
    if (id) await got(api.PUT("/api/people/{id}", { params: { path: { id } }, body: request }));
    else { const fresh = await got(api.POST("/api/people", { body: request })); setMade({ email: request.email, password: fresh.password }); }
    setChosen(null);
  });
  return (
    <Panels>
      <Card>
        <Head><b>{people.data?.length ?? 0} people</b><Row $gap={8}><CopyCsv columns={columns} rows={people.data ?? []} /><Button main onPress={() => { setChosen("new"); setError(null); }}>Add a person</Button></Row></Head>
        {made && <div role="status" style={{ padding: "0 14px 10px" }}>The password of {made.email} is <code>{made.password}</code>. It is shown once; they can change it after signing in. <Button bare onPress={() => void navigator.clipboard.writeText(made.password)}>Copy</Button><Button bare onPress={() => setMade(null)}>Done</Button></div>}
        <Table label="People" columns={columns} rows={people.data ?? []} rowKey={(row) => row.id} chosen={chosen} onOpen={(row) => { setChosen(row.id); setError(null); }} first={{ id: "name" }} />
      </Card>
      {(chosen === "new" || person) && (
        <Drawer title={person?.name ?? "A new person"} onClose={() => setChosen(null)}>
          <PersonEditor key={chosen} person={person ?? null} clusters={(clusters.data ?? []).map((one) => one.name)} onSave={save(person?.id ?? null)}
            onPassword={() => act(async () => setMade({ email: person!.email, password: (await got(api.POST("/api/people/{id}/password", { params: { path: { id: person!.id } } }))).password }))}
            onSeeAs={() => act(async () => { await got(api.POST("/api/session/as", { body: { id: person!.id } })); globalThis.location.assign("/"); })}
            onRemove={() => act(async () => { await got(api.DELETE("/api/people/{id}", { params: { path: { id: person!.id } } })); setChosen(null); })} />
          {error ? <Trouble error={error instanceof Problem ? error : new Problem(0, String(error), "")} /> : null}
        </Drawer>
      )}
    </Panels>
  );
}

function Audit() {
  const [text, setText] = useState("");
  const [before, setBefore] = useState<number[]>([]);
  const last = before[before.length - 1];
  const log = useQuery({ queryKey: ["audit", text, last], queryFn: ({ signal }) => got(api.GET("/api/audit", { signal, params: { query: { text: text || undefined, before: last } } })) });
  const columns: Column<Schemas["AuditEntry"]>[] = [
    { id: "at", title: "When", width: "150px", cell: (row) => exact(Date.parse(row.at)), value: (row) => row.at },
    { id: "person", title: "Who", width: "14%", cell: (row) => <span title={row.email}>{row.person}</span>, value: (row) => row.person },
    { id: "action", title: "Did", width: "22%", cell: (row) => row.action, value: (row) => row.action },
    { id: "about", title: "To what", width: "22%", cell: (row) => row.about ?? "", value: (row) => row.about ?? "" },
    { id: "cluster", title: "Cluster", width: "12%", cell: (row) => row.cluster ?? "", value: (row) => row.cluster ?? "" },
    { id: "detail", title: "More", cell: (row) => row.detail ?? "", value: (row) => row.detail ?? "" },
  ];
  const rows = log.data ?? [];
  return (
    <Card style={{ flex: 1, minHeight: 0, display: "flex", flexDirection: "column" }}>
      <Head><TextInput label="Find in the audit log" hideLabel placeholder="person, act or subject" value={text} onChange={(value) => { setText(value); setBefore([]); }} /><Row $gap={8}><CopyCsv columns={columns} rows={rows} />
        {before.length > 0 && <Button onPress={() => setBefore(before.slice(0, -1))}>Newer</Button>}
        {rows.length === 500 && <Button onPress={() => setBefore([...before, rows[rows.length - 1]!.id])}>Older</Button>}</Row></Head>
      {log.error ? <Trouble error={log.error} /> : rows.length === 0 && !log.isPending ? <Empty title="Nothing is written here">{text ? "No entry has this in it." : "What people change stands here from now on."}</Empty>
        : <Table label="Audit log" columns={columns} rows={rows} rowKey={(row) => String(row.id)} />}
    </Card>
  );
}
