import { useState } from "react";
import type { Schemas } from "../api/client";
import { Button, Quiet, Row } from "../parts/basics";
import { Switch, TextInput } from "../parts/fields";
import { namesOf } from "./scope";

const tasks: [string, string][] = [
  ["reader", "sees clusters, arrivals, answers, sheets and alarms"], ["responder", "acknowledges and shelves alarms"], ["author", "writes enquiries, sheets and alert rules"],
  ["installer", "connects clusters, rolls out collection"], ["keeper", "people, tokens, contacts"],
];

/** What a person may do and see. */
export function PersonEditor({ person, clusters, onSave, onPassword, onSeeAs, onRemove }: {
  person: Schemas["PersonView"] | null; clusters: string[]; onSave: (request: Schemas["PersonRequest"]) => void; onPassword: () => void; onSeeAs: () => void; onRemove: () => void;
}) {
  const [name, setName] = useState(person?.name ?? "");
  const [email, setEmail] = useState(person?.email ?? "");
  const [roles, setRoles] = useState<string[]>(person?.roles ?? ["reader"]);
  const [own, setOwn] = useState((person?.clusters ?? []).join(", "));
  const [namespaces, setNamespaces] = useState((person?.namespaces ?? []).join(", "));
  const [asking, setAsking] = useState(false);
  const strange = (namesOf(own) ?? []).filter((one) => !clusters.includes(one));
  return (
    <div style={{ display: "grid", gap: 10 }}>
      <TextInput label="Name" value={name} onChange={setName} required />
      <TextInput label="E-mail" type="email" value={email} onChange={setEmail} required />
      <b>May</b>
      {tasks.map(([role, does]) => <Switch key={role} on={roles.includes(role)} onChange={(on) => setRoles(on ? [...roles, role] : roles.filter((one) => one !== role))}><span>{role}<br /><Quiet>{does}</Quiet></span></Switch>)}
      <TextInput label="Clusters" value={own} onChange={setOwn} help={strange.length > 0 ? `Not connected: ${strange.join(", ")}.` : "Names with commas between them; empty for all."} />
      <TextInput label="Namespaces" value={namespaces} onChange={setNamespaces} help="Empty for all, and for what belongs to no namespace, such as nodes." />
      <Row $gap={8}><Button main isDisabled={!name.trim() || !email.trim()} onPress={() => onSave({ name, email, roles, clusters: namesOf(own), namespaces: namesOf(namespaces) })}>{person ? "Save" : "Add"}</Button>
        {person && !person.you && <Button onPress={onSeeAs}>See as {person.name}</Button>}</Row>
      {person && <>
        {person.lockedUntil && <Quiet>Locked after too many wrong passwords; a new password opens it again.</Quiet>}
        <Row $gap={8}><Button bare onPress={onPassword}>Give a new password</Button>{!person.you && (asking ? <Button main onPress={onRemove}>Take out {person.name} for good</Button> : <Button bare onPress={() => setAsking(true)}>Take out</Button>)}</Row>
      </>}
      {person && <Quiet>Changes are in force within a minute, wherever {person.name} is signed in.</Quiet>}
    </div>
  );
}
