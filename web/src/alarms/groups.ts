import type { Schemas } from "../api/client";

type Alarm = Schemas["AlarmView"];
type Group = Schemas["AlarmGroup"];

/** A line of the list: a group of several alarms, or one alarm, of a group or for itself. */
export type AlarmLine = { group: Group; alarm: null } | { group: Group | null; alarm: Alarm };

/** Groups of several as a line each, with their alarms below where they are open; then what is not raised yet. */
export function lines(alarms: Alarm[], groups: Group[], open: ReadonlySet<string>): AlarmLine[] {
  const byId = new Map(alarms.map((alarm) => [alarm.id, alarm]));
  const out: AlarmLine[] = [];
  const shown = new Set<string>();
  for (const group of groups) {
    const members = group.alarms.map((id) => byId.get(id)).filter((alarm): alarm is Alarm => !!alarm);
    members.forEach((alarm) => shown.add(alarm.id));
    if (members.length === 0) continue;
    // One alone is shown as itself, unless there is a cause to tell.
    if (members.length === 1 && !group.because) { out.push({ group: null, alarm: members[0]! }); continue; }
    out.push({ group: { ...group, alarms: members.map((alarm) => alarm.id) }, alarm: null });
    if (open.has(group.title)) members.forEach((alarm) => out.push({ group, alarm }));
  }
  alarms.filter((alarm) => !shown.has(alarm.id)).forEach((alarm) => out.push({ group: null, alarm }));
  return out;
}
