import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Heading, Mark, Quiet, Row, Trouble, Waiting } from "../parts/basics";
import { Choose, Switch } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { byArea, without } from "./readyMade";
import { RunbookDialog } from "./RunbookDialog";
import { raisedWhen } from "./sentence";

const Line = styled(Row)`justify-content: space-between; border-top: 1px solid ${({ theme }) => theme.rule}; padding: 4px 0; min-height: 34px;`;

/** Rules that fit most clusters, to be put in force as they are or to be looked at first. */
export function ReadyMadeDialog({ cluster, rules, close, open }: { cluster: string; rules: Schemas["RuleView"][]; close: () => void; open: (id: string) => void }) {
  const queries = useQueryClient();
  const ready = useQuery({ queryKey: ["ready-made"], queryFn: () => got(api.GET("/api/alert-rules/ready-made")) });
  const contacts = useQuery({ queryKey: ["contacts"], queryFn: () => got(api.GET("/api/contacts")) });
  const teams = useQuery({ queryKey: ["teams"], queryFn: () => got(api.GET("/api/teams")) });
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [tell, setTell] = useState("nobody");
  const [runbook, setRunbook] = useState<string | null>(null);
  const [done, setDone] = useState(0);
  const take = useMutation({
    mutationFn: async (inForce: boolean) => {
      setDone(0);
      let last = "";
      for (const rule of (ready.data ?? []).filter((one) => chosen.has(one.document.rule))) {
        last = (await got(api.POST("/api/alert-rules", { params: { query: { inForce } }, body: { ...rule.document, cluster, tell: tell === "nobody" ? [] : [tell] } }))).id;
        setDone((before) => before + 1);
      }
      return last;
    },
    onSettled: () => void queries.invalidateQueries({ queryKey: ["rules"] }),
    onSuccess: (last) => { close(); if (chosen.size === 1) open(last); },
  });
  const there = new Set(rules.map((rule) => rule.document.rule));
  const busy = take.isPending;
  if (runbook) return <RunbookDialog name={runbook} close={() => setRunbook(null)} />;
  return (
    <Dialog title={`Ready-made rules for ${cluster}`} width={720} onClose={close} actions={<>
      <Button needs="author" isDisabled={busy || chosen.size === 0} onPress={() => take.mutate(false)}>Keep as {chosen.size === 1 ? "a draft" : "drafts"}</Button>
      <Button needs="author" main isDisabled={busy || chosen.size === 0} onPress={() => take.mutate(true)}>{busy ? `${done} of ${chosen.size}` : `Put ${chosen.size} in force`}</Button>
    </>}>
      <Row style={{ justifyContent: "space-between" }}><Quiet>Look at a draft's replay before it wakes anyone. Each has a runbook.</Quiet>
        <Choose label="Tell" value={tell} onChange={setTell} options={[{ id: "nobody", text: "nobody" }, ...(teams.data ?? []).map((team) => ({ id: team.document.team, text: `${team.document.team}, a team` })), ...(contacts.data ?? []).map((contact) => ({ id: contact.name, text: contact.name }))]} /></Row>
      {ready.isPending ? <Waiting what="Reading the rules" /> : ready.error ? <Trouble error={ready.error} /> : byArea(ready.data).map(({ area, rules: own }) => (
        <div key={area}>
          <Row style={{ justifyContent: "space-between", marginTop: 10 }}><Heading>{area}</Heading><Button bare onPress={() => setChosen(without(new Set([...chosen, ...own.map((rule) => rule.document.rule)]), there))}>All of these</Button></Row>
          {own.map((rule) => (
            <Line key={rule.document.rule}>
              {there.has(rule.document.rule) ? <span><Mark level={rule.document.severity ?? "major"} title={rule.document.severity ?? "major"} /> {rule.document.rule} <Quiet>is there already</Quiet></span>
                : <Row $gap={6}><Switch on={chosen.has(rule.document.rule)} onChange={(on) => setChosen((before) => { const next = new Set(before); if (on) next.add(rule.document.rule); else next.delete(rule.document.rule); return next; })}>{rule.document.rule}</Switch></Row>}
              <Row $gap={8}><Quiet>{rule.document.severity}, {raisedWhen(rule.document)}{rule.document.hold && rule.document.hold !== "0" ? ` for ${rule.document.hold}` : ""}</Quiet><Button bare aria-label={`Runbook of ${rule.document.rule}`} onPress={() => setRunbook(rule.runbook)}>Runbook</Button></Row>
            </Line>
          ))}
        </div>
      ))}
      {take.error ? <Trouble error={take.error} /> : null}
    </Dialog>
  );
}
