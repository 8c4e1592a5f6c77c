import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got } from "../api/client";
import { Button, Quiet, Row, Trouble } from "../parts/basics";
import { Choose, TextInput } from "../parts/fields";
import { exact } from "../parts/time";
import { useWhyNot } from "../parts/may";

const Entry = styled.div`display: grid; grid-template-columns: 68px 1fr; gap: 8px; padding: 4px 0; border-top: 1px solid ${({ theme }) => theme.rule}; overflow-wrap: anywhere; time { color: ${({ theme }) => theme.ink2}; font-family: ${({ theme }) => theme.mono}; font-size: 12px; }`;

/** All that happened with an alarm, and what a person adds to it. */
export function AlarmHistory({ id }: { id: string }) {
  const queries = useQueryClient();
  const responds = useWhyNot("responder") === null;
  const timeline = useQuery({ queryKey: ["timeline", id], refetchInterval: 5000, retry: false, queryFn: () => got(api.GET("/api/alarms/{id}/timeline", { params: { path: { id } } })) });
  const responders = useQuery({ queryKey: ["responders"], enabled: responds, queryFn: () => got(api.GET("/api/responders")) });
  const [text, setText] = useState("");
  const [error, setError] = useState<unknown>(null);
  const act = async (work: () => Promise<unknown>) => {
    try { setError(null); await work(); setText(""); } catch (wrong) { setError(wrong); }
    void queries.invalidateQueries({ queryKey: ["timeline", id] });
    void queries.invalidateQueries({ queryKey: ["alarms"] });
  };
  const path = { params: { path: { id } } };
  return (
    <>
      <h3>What happened</h3>
      {(timeline.data ?? []).map((entry, i) => (
        <Entry key={i}><time title={exact(Date.parse(entry.at))}>{exact(Date.parse(entry.at)).slice(-8)}</time><span>{entry.who ? <b>{entry.who} </b> : null}{entry.kind === "raised" || entry.kind === "cleared" ? `${entry.kind}: ${entry.text}` : entry.text}</span></Entry>
      ))}
      {timeline.data?.length === 0 || timeline.error ? <Quiet>It is not raised yet.</Quiet> : null}
      {responds && <div style={{ marginTop: 10, display: "grid", gap: 6 }}>
        <TextInput label="Note" rows={2} value={text} onChange={setText} placeholder="what was found, what was done" />
        <Row $gap={8} $wrap>
          <Button isDisabled={!text.trim()} onPress={() => act(() => got(api.POST("/api/alarms/{id}/note", { ...path, body: { text } })))}>Keep the note</Button>
          <Choose hideLabel label="Hand over" value="" onChange={(to) => act(() => got(api.POST("/api/alarms/{id}/hand-over", { ...path, body: { to, text: text.trim() || null } })))} options={[{ id: "", text: "Hand over" }, ...(responders.data ?? []).map((name) => ({ id: name, text: `to ${name}` }))]} />
        </Row>
      </div>}
      {error ? <Trouble error={error} /> : null}
    </>
  );
}
