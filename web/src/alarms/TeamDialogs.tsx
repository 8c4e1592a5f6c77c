import { useState } from "react";
import { api, got, Problem, type Schemas } from "../api/client";
import { Button, Quiet, Row, Trouble } from "../parts/basics";
import { Choose, Switch, TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { localTime, readLocal } from "./localTime";
import { readPeople, readSteps, writeSteps, type TeamDocument } from "./team";

/** A team: who takes turns, who is told when, when it is quiet. */
export function TeamDialog({ team, contacts, close }: { team: TeamDocument | null; contacts: string[]; close: () => void }) {
  const [name, setName] = useState(team?.team ?? "");
  const [zone, setZone] = useState(team?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone);
  const [people, setPeople] = useState((team?.rota?.people ?? (team ? [] : contacts)).join("\n"));
  const [first, setFirst] = useState(team?.rota?.first ?? localTime(Date.now()).slice(0, 10));
  const [days, setDays] = useState(String(team?.rota?.days ?? 7));
  const [at, setAt] = useState(team?.rota?.at ?? "09:00");
  const [steps, setSteps] = useState(writeSteps(team?.steps ?? [{ tell: "rota" }]));
  const [quiet, setQuiet] = useState(!!team?.quiet);
  const [from, setFrom] = useState(team?.quiet?.from ?? "22:00");
  const [to, setTo] = useState(team?.quiet?.to ?? "06:00");
  const [least, setLeast] = useState<Schemas["Severity"]>(team?.quiet?.least ?? "critical");
  const [error, setError] = useState<unknown>(null);
  const read = readSteps(steps);
  const turns = readPeople(people);
  const mistakes = error instanceof Problem ? (error.errors as { field: string; message: string }[]) : [];
  const mistake = (field: string) => mistakes.find((one) => one.field === field)?.message;
  const keep = async () => {
    try {
      setError(null);
      const document: TeamDocument = {
        team: name.trim(), zone: zone.trim(), steps: read.steps, rota: turns.length > 0 ? { people: turns, first, days: Number(days) || 0, at, instead: team?.rota?.instead ?? null } : null, quiet: quiet ? { from, to, least } : null,
      };
      await got(api.PUT("/api/teams/{name}", { params: { path: { name: document.team } }, body: document }));
      close();
    } catch (wrong) { setError(wrong); }
  };
  return (
    <Dialog title={team ? `Team ${team.team}` : "New team"} width={640} onClose={close} actions={<Button main isDisabled={!name.trim() || !!read.mistake} onPress={() => void keep()}>Keep team</Button>}>
      <Row $gap={10} style={{ alignItems: "start" }}>
        {!team && <TextInput label="Name" value={name} onChange={setName} mistake={mistake("team")} autoFocus />}
        <TextInput label="Time zone" value={zone} onChange={setZone} mistake={mistake("zone")} help="Hand-overs and quiet hours keep to its wall clocks." />
      </Row>
      <Row $gap={10} style={{ alignItems: "start" }}>
        <div style={{ flex: 1 }}><TextInput label="Who takes turns, a contact in each line" rows={4} value={people} onChange={setPeople} mistake={mistake("rota") ?? mistake("instead")} help={`There are: ${contacts.join(", ")}.`} /></div>
        <div style={{ width: 170, display: "grid", gap: 8 }}>
          <TextInput label="First turn begins" value={first} onChange={setFirst} placeholder="2026-11-24" />
          <TextInput label="Days a turn" value={days} onChange={setDays} mistake={mistake("days")} />
          <TextInput label="Handed over at" value={at} onChange={setAt} mistake={mistake("at")} />
        </div>
      </Row>
      <TextInput label="Who is told" rows={3} value={steps} onChange={setSteps} mistake={read.mistake ?? mistake("steps")} help="The first line at once; each further one when nobody has acknowledged after so long. 'rota' is whoever is on duty then." placeholder={"rota\n15m chief"} />
      <Row $gap={10} $wrap>
        <Switch on={quiet} onChange={setQuiet}>Quiet hours</Switch>
        {quiet && <><div style={{ width: 80 }}><TextInput hideLabel label="Quiet from" value={from} onChange={setFrom} /></div><Quiet>to</Quiet><div style={{ width: 80 }}><TextInput hideLabel label="Quiet to" value={to} onChange={setTo} /></div>
          <Choose label="told all the same from" value={least} onChange={setLeast} options={[{ id: "critical", text: "◆ critical" }, { id: "major", text: "▲ major" }, { id: "minor", text: "△ minor" }]} /></>}
      </Row>
      {mistake("quiet") && <Trouble error={mistake("quiet")} />}
      {error && mistakes.length === 0 ? <Trouble error={error} /> : null}
    </Dialog>
  );
}

/** Somebody takes a stretch of duty. */
export function DutyDialog({ team, contacts, close }: { team: Schemas["TeamView"]; contacts: string[]; close: () => void }) {
  const on = team.shifts[0]?.person;
  const [person, setPerson] = useState(contacts.find((name) => name !== on) ?? contacts[0] ?? "");
  const [from, setFrom] = useState(localTime(Date.now()));
  const [to, setTo] = useState(localTime(Date.now() + 12 * 3_600_000));
  const [error, setError] = useState<unknown>(null);
  const [begun, ended] = [readLocal(from), readLocal(to)];
  return (
    <Dialog title={`Take over a duty of ${team.document.team}`} width={480} onClose={close} actions={<Button main needs="responder" isDisabled={begun === null || ended === null} onPress={async () => {
      try { setError(null); await got(api.POST("/api/teams/{name}/instead", { params: { path: { name: team.document.team } }, body: { person, from: new Date(begun!).toISOString(), to: new Date(ended!).toISOString() } })); close(); } catch (wrong) { setError(wrong); }
    }}>Take over</Button>}>
      <Choose label="Who is told instead" value={person} onChange={setPerson} options={contacts.map((name) => ({ id: name, text: name }))} />
      <Row $gap={10} style={{ alignItems: "start" }}>
        <TextInput label="From" value={from} onChange={setFrom} mistake={begun === null ? "Write it as 2026-11-24 06:00." : undefined} />
        <TextInput label="To" value={to} onChange={setTo} mistake={ended === null ? "Write it as 2026-11-24 18:00." : undefined} />
      </Row>
      <Quiet>Times are those of this browser. The turn goes on with whoever has it when the stretch is over.</Quiet>
      {error ? <Trouble error={error} /> : null}
    </Dialog>
  );
}
