import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Empty, Heading, Mark, Mono, Quiet, Row, Title, Trouble, Waiting } from "../parts/basics";
import { TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { ago, clock, day } from "../parts/time";
import { useNow } from "../shell/view";
import { DutyDialog, TeamDialog } from "./TeamDialogs";
import { stepWords } from "./team";

type Contact = Schemas["ContactView"];
type Team = Schemas["TeamView"];

const Two = styled.div`display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1.15fr); gap: 12px; flex: 1; min-height: 0; @media (max-width: 900px) { grid-template-columns: 1fr; }`;
const Part = styled(Card)`padding: 10px 14px; overflow: auto; min-height: 0;`;
const Line = styled.div`border-top: 1px solid ${({ theme }) => theme.rule}; padding: 8px 0; &:first-of-type { margin-top: 8px; }
  dl { display: grid; grid-template-columns: 92px 1fr; gap: 2px 10px; margin: 6px 0; } dt { color: ${({ theme }) => theme.ink2}; } dd { margin: 0; }`;
const moment = (ms: number) => `${day(ms)} ${clock(ms)}`;

/** Who is told: contacts and whether they are reached, teams and who of them is on duty. */
export function TellingPage({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const contacts = useQuery({ queryKey: ["contacts"], refetchInterval: 5000, queryFn: () => got(api.GET("/api/contacts")) });
  const teams = useQuery({ queryKey: ["teams"], refetchInterval: 30_000, queryFn: () => got(api.GET("/api/teams")) });
  const [editing, setEditing] = useState<Team | "new" | null>(null);
  const [taking, setTaking] = useState<Team | null>(null);
  const [adding, setAdding] = useState<Contact | "new" | null>(null);
  const [error, setError] = useState<unknown>(null);
  const refresh = () => { void queries.invalidateQueries({ queryKey: ["contacts"] }); void queries.invalidateQueries({ queryKey: ["teams"] }); };
  const act = async (work: () => Promise<unknown>) => { try { setError(null); await work(); } catch (wrong) { setError(wrong); } refresh(); };
  if (contacts.error || teams.error) return <Trouble error={contacts.error ?? teams.error} />;
  if (!contacts.data || !teams.data) return <Waiting what="Reading who is told" />;
  const names = contacts.data.map((contact) => contact.name);
  return (
    <>
      <Title about={`${names.length} ${names.length === 1 ? "contact" : "contacts"}, ${teams.data.length} ${teams.data.length === 1 ? "team" : "teams"}`} actions={<>
        <Button onPress={close}>Back to the alarms</Button>
        <Button needs="keeper" onPress={() => setAdding("new")}>New contact</Button>
        <Button needs="keeper" main isDisabled={names.length === 0} onPress={() => setEditing("new")}>New team</Button>
      </>}>Who is told</Title>
      {error ? <Trouble error={error} /> : null}
      <Two>
        <Part>
          <Heading>Contacts</Heading>
          {names.length === 0 ? <Empty title="Nobody is told yet" action={<Button needs="keeper" main onPress={() => setAdding("new")}>New contact</Button>}>A contact is an address messages are posted to as JSON, or sent to by mail.</Empty>
            : contacts.data.map((contact) => <ContactLine key={contact.id} contact={contact} act={act} edit={() => setAdding(contact)} />)}
        </Part>
        <Part>
          <Heading>Teams</Heading>
          {teams.data.length === 0 ? <Empty title="No team yet">A team takes turns: whoever is on duty is told first, somebody else when nobody acknowledges. Rules name it as they name a contact.</Empty>
            : teams.data.map((team) => <TeamLine key={team.document.team} team={team} edit={() => setEditing(team)} take={() => setTaking(team)} remove={() => act(() => got(api.DELETE("/api/teams/{name}", { params: { path: { name: team.document.team } } })))} />)}
        </Part>
      </Two>
      {adding && <ContactDialog contact={adding === "new" ? null : adding} close={() => { setAdding(null); refresh(); }} />}
      {editing && <TeamDialog team={editing === "new" ? null : editing.document} contacts={names} close={() => { setEditing(null); refresh(); }} />}
      {taking && <DutyDialog team={taking} contacts={names} close={() => { setTaking(null); refresh(); }} />}
    </>
  );
}

function ContactLine({ contact, act, edit }: { contact: Contact; act: (work: () => Promise<unknown>) => Promise<void>; edit: () => void }) {
  const { now } = useNow();
  const [tried, setTried] = useState<string | null>(null);
  const [secret, setSecret] = useState<string | null>(null);
  const [removing, setRemoving] = useState(false);
  const failing = contact.failingSince ? Date.parse(contact.failingSince) : null;
  const test = () => act(async () => {
    setTried("sending");
    const posted = await got(api.POST("/api/contacts/{id}/test", { params: { path: { id: contact.id } } }));
    setTried(posted.error ? `not taken: ${posted.error}` : `taken after ${Math.round(posted.milliseconds)} ms`);
  });
  return (
    <Line>
      <Row style={{ justifyContent: "space-between" }} $gap={8}>
        <span><Mark level={failing ? "major" : "clear"} title={failing ? "not reached" : "reached"} /><b>{contact.name}</b><Quiet>{contact.signed && " signed"}{contact.template && ", in a form of its own"}</Quiet></span>
        <Row $gap={4}>
          <Button bare needs="keeper" onPress={test}>Send a test</Button>
          <Button bare needs="keeper" aria-label={`Change ${contact.name}`} onPress={edit}>Change</Button>
          {!contact.url.startsWith("mailto:") && <Button bare needs="keeper" onPress={() => act(async () => setSecret((await got(api.POST("/api/contacts", { body: { name: contact.name, url: contact.url, sign: true } }))).secret))}>{contact.signed ? "New secret" : "Sign"}</Button>}
          {removing ? <Button main onPress={() => act(() => got(api.DELETE("/api/contacts/{id}", { params: { path: { id: contact.id } } })))}>Remove {contact.name} for good</Button>
            : <Button bare needs="keeper" aria-label={`Remove ${contact.name}`} onPress={() => setRemoving(true)}>Remove</Button>}
        </Row>
      </Row>
      <div><Mono style={{ overflowWrap: "anywhere" }}>{contact.url}</Mono></div>
      {failing && <div role="status">Nothing is taken since {moment(failing)} ({ago(failing, now)}): {contact.lastError}. {contact.waiting} {contact.waiting === 1 ? "message waits" : "messages wait"}.</div>}
      {!failing && contact.waiting > 0 && <Quiet>{contact.waiting} {contact.waiting === 1 ? "message waits" : "messages wait"}</Quiet>}
      {tried && <div role="status"><Quiet>Test message: {tried}</Quiet></div>}
      {secret && <div role="status">Shown once; the receiver checks the header webhook-signature with it: <Mono style={{ overflowWrap: "anywhere" }}>{secret}</Mono> <Button bare onPress={() => void navigator.clipboard.writeText(secret)}>Copy</Button></div>}
    </Line>
  );
}

function TeamLine({ team, edit, take, remove }: { team: Team; edit: () => void; take: () => void; remove: () => void }) {
  const { document, shifts } = team;
  const [removing, setRemoving] = useState(false);
  const on = shifts[0];
  return (
    <Line>
      <Row style={{ justifyContent: "space-between" }} $gap={8}>
        <span><b>{document.team}</b> <Quiet>{document.zone}</Quiet></span>
        <Row $gap={4}>
          {on && <Button bare needs="responder" onPress={take}>Take over</Button>}
          <Button bare needs="keeper" aria-label={`Change ${document.team}`} onPress={edit}>Change</Button>
          {removing ? <Button main onPress={remove}>Remove {document.team} for good</Button> : <Button bare needs="keeper" aria-label={`Remove ${document.team}`} onPress={() => setRemoving(true)}>Remove</Button>}
        </Row>
      </Row>
      {team.trouble && <Trouble error={`It tells nobody: ${team.trouble}`} />}
      <dl>
        {on && <><dt>on duty</dt><dd><b>{on.person}</b>{on.instead && ` instead of ${on.instead}`} until {moment(Date.parse(on.to))}</dd></>}
        {shifts.length > 1 && <><dt>then</dt><dd>{shifts.slice(1, 5).map((shift) => <div key={shift.from}>{shift.person}{shift.instead && ` instead of ${shift.instead}`} <Quiet>from {moment(Date.parse(shift.from))}</Quiet></div>)}</dd></>}
        <dt>is told</dt><dd>{document.steps.map((step) => <div key={`${step.after} ${step.tell}`}>{stepWords(step)}</div>)}</dd>
        {document.quiet && <><dt>quiet</dt><dd>{document.quiet.from} to {document.quiet.to}; {document.quiet.least ?? "critical"}{(document.quiet.least ?? "critical") === "critical" ? "" : " and worse"} all the same</dd></>}
      </dl>
    </Line>
  );
}

const example = '{"text": "{all}", "link": "{link}"}';

/** A contact: where messages go, and in which form. */
function ContactDialog({ contact, close }: { contact: Contact | null; close: () => void }) {
  const [name, setName] = useState(contact?.name ?? "");
  const [url, setUrl] = useState(contact?.url ?? "");
  const [template, setTemplate] = useState(contact?.template ?? "");
  const [error, setError] = useState<unknown>(null);
  const mail = url.trim().toLowerCase().startsWith("mailto:");
  return (
    <Dialog title={contact ? contact.name : "New contact"} width={560} onClose={close} actions={<Button main isDisabled={!name.trim() || !url.trim()} onPress={async () => {
      try { setError(null); await got(api.POST("/api/contacts", { body: { name: name.trim(), url: url.trim(), sign: null, template: mail ? "" : template.trim() } })); close(); } catch (wrong) { setError(wrong); }
    }}>Keep contact</Button>}>
      {!contact && <TextInput label="Name" value={name} onChange={setName} help="Rules and teams name it." autoFocus />}
      <TextInput label="Address" value={url} onChange={setUrl} help="https://… posts messages as JSON, mailto:duty@larkfield.example sends them by mail. Each has an id that stays the same when it is repeated; several that come at once are sent as one." />
      {!mail && <TextInput label="Form of the JSON, where the receiver wants another" rows={3} value={template} onChange={setTemplate} placeholder={example} help="Empty for Skevin's own. Names in braces stand inside of texts: {all} is a line a message; {rule}, {transition}, {severity}, {cluster}, {labels}, {value}, {unit}, {runbook}, {link}, {count}." />}
      {error ? <Trouble error={error} /> : null}
    </Dialog>
  );
}
