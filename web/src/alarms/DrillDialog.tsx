import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled, { useTheme } from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Empty, Mark, Mono, Quiet, Row, Trouble } from "../parts/basics";
import { Choose } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { exact } from "../parts/time";
import { hopTime, hopWords, places, type Drill, type Hop } from "./drill";

const Hops = styled.ol`list-style: none; margin: 10px 0 0; padding: 0;
  li { display: grid; grid-template-columns: 26px 200px 150px 1fr; gap: 4px 8px; padding: 7px 0; border-top: 1px solid ${({ theme }) => theme.rule}; align-items: start; }
  li.ahead, li.skipped { color: ${({ theme }) => theme.ink2}; }
  p { grid-column: 2 / -1; margin: 0; }`;

const level = (hop: Hop) => (hop.state === "broken" ? "critical" : hop.state === "done" ? "clear" : "warning") as "critical" | "clear" | "warning";

/** Where on the way each hop lies, drawn to scale. */
function Way({ drill, now }: { drill: Drill; now: number }) {
  const theme = useTheme();
  const hops = places(drill, now);
  const at = (hop: Schemas["DrillHop"]) => hops.find((one) => one.hop.hop === hop)?.at;
  const over = at("faultOver") ?? 1;
  const x = (share: number) => `${2 + share * 96}%`;
  return (
    <svg width="100%" height="34" role="img" aria-label={`Fault to message, to scale: ${hops.map(({ hop }) => hopWords(hop)).join(", ")}`}>
      <line x1="2%" x2="98%" y1="12" y2="12" stroke={theme.rule} strokeWidth="2" />
      {at("fault") !== undefined && <line x1={x(at("fault")!)} x2={x(over)} y1="12" y2="12" stroke={theme.critical} strokeWidth="4" />}
      {at("raised") !== undefined && <line x1={x(at("raised")!)} x2={x(at("cleared") ?? 1)} y1="22" y2="22" stroke={theme.act} strokeWidth="4" />}
      {hops.map(({ hop, at }) => <line key={hop.hop} x1={x(at)} x2={x(at)} y1="6" y2="28" stroke={theme.ink} strokeWidth="1.5"><title>{hopWords(hop)}</title></line>)}
    </svg>
  );
}

/** Puts a fault into the practice cluster and follows it to the message and back. */
export function DrillDialog({ rule, close }: { rule: Schemas["RuleView"]; close: () => void }) {
  const queries = useQueryClient();
  const path = { params: { path: { id: rule.id } } };
  const last = useQuery({ queryKey: ["drill", rule.id], refetchInterval: 1000, queryFn: async () => (await got(api.GET("/api/alert-rules/{id}/drill", path))) ?? null });
  const faults = useQuery({ queryKey: ["faults"], retry: false, queryFn: () => got(api.GET("/api/practice/faults")) });
  const [fault, setFault] = useState<string | null>(null);
  const chosen = fault ?? last.data?.fault ?? faults.data?.[0]?.name ?? "";
  const after = () => { void queries.invalidateQueries({ queryKey: ["drill", rule.id] }); void queries.invalidateQueries({ queryKey: ["rules"] }); };
  const begin = useMutation({ mutationFn: () => got(api.POST("/api/alert-rules/{id}/drill", { ...path, body: { fault: chosen } })), onSuccess: after });
  const breakOff = useMutation({ mutationFn: () => got(api.DELETE("/api/alert-rules/{id}/drill", path)), onSuccess: after });
  const drill = last.data;
  const going = !!drill && !drill.endedAt;
  return (
    <Dialog title={`Drill: ${rule.document.rule}`} width={760} onClose={close} actions={going
      ? <Button needs="installer" isDisabled={breakOff.isPending} onPress={() => breakOff.mutate()}>Break off</Button>
      : <Button needs="installer" main isDisabled={begin.isPending || !chosen || !rule.inForce} onPress={() => begin.mutate()}>{drill ? "Drill again" : "Begin the drill"}</Button>}>
      <p><Quiet>Puts a fault into the practice cluster and times the whole way: data, alarm, message, and back. Whoever the rule tells is told for real, with "drill" in the message. Closing this does not stop it.</Quiet></p>
      {!rule.inForce && <Trouble error="The rule is not in force. Put it in force first: a drill follows the live way." />}
      <Row><Choose label="Fault" value={chosen} onChange={setFault} options={(faults.data ?? []).map((one) => ({ id: one.name, text: one.title }))} /></Row>
      {faults.error ? <Trouble error={faults.error} /> : null}
      {begin.error ? <Trouble error={begin.error} /> : null}
      {breakOff.error ? <Trouble error={breakOff.error} /> : null}
      {last.error ? <Trouble error={last.error} /> : !drill ? <Empty title="This rule was never drilled">After a drill its times stand here, or where the chain broke.</Empty> : <>
        <p>{going ? "Goes on" : "Last drill"}: <b>{drill.title}</b> <Quiet>by {drill.by}, {exact(Date.parse(drill.begunAt))}</Quiet></p>
        <Way drill={drill} now={Date.now()} />
        <Hops aria-label="The way of the drill">
          {drill.hops.map((hop) => (
            <li key={hop.hop} className={hop.state}>
              {hop.state === "done" || hop.state === "broken" ? <Mark level={level(hop)} title={hop.state} /> : <span />}
              <span>{hopWords(hop)}</span>
              <Mono>{hop.at ? exact(Date.parse(hop.at)).slice(-8) : hop.state === "going" ? "waiting" : hop.state === "broken" ? "not" : hop.state === "skipped" ? "not tried" : ""}</Mono>
              <span>{hopTime(hop)}</span>
              {hop.said && <p>{hop.said}</p>}
            </li>
          ))}
        </Hops>
      </>}
    </Dialog>
  );
}
