import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got } from "../api/client";
import { Button, Quiet, Row, Trouble } from "../parts/basics";
import { TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { exact } from "../parts/time";
import { localTime, readLocal } from "./localTime";

const Line = styled(Row)`justify-content: space-between; border-top: 1px solid ${({ theme }) => theme.rule}; padding-top: 6px;`;

/** Incidents of a stretch of time: rules are held against them. */
export function IncidentDialog({ cluster, from, to, close }: { cluster: string; from: number; to: number; close: () => void }) {
  const queries = useQueryClient();
  const incidents = useQuery({ queryKey: ["incidents", cluster, from, to], queryFn: () => got(api.GET("/api/incidents", { params: { query: { cluster, from: new Date(from).toISOString(), to: new Date(to).toISOString() } } })) });
  const [title, setTitle] = useState("");
  const [begin, setBegin] = useState(localTime(to - 3_600_000));
  const [end, setEnd] = useState(localTime(to));
  const [error, setError] = useState<unknown>(null);
  const [begun, ended] = [readLocal(begin), readLocal(end)];
  const act = async (work: () => Promise<unknown>) => { try { setError(null); await work(); } catch (wrong) { setError(wrong); } void queries.invalidateQueries({ queryKey: ["incidents"] }); void queries.invalidateQueries({ queryKey: ["replay"] }); };
  return (
    <Dialog title="Incidents" width={560} onClose={close} actions={<Button main needs="responder" isDisabled={!title.trim() || begun === null || ended === null} onPress={() => act(async () => { await got(api.POST("/api/incidents", { body: { title, from: new Date(begun!).toISOString(), to: new Date(ended!).toISOString(), cluster } })); setTitle(""); })}>Write it up</Button>}>
      <Quiet>What was bad, and from when to when. A rule that was not raised then, nor in the quarter of an hour before, has missed it.</Quiet>
      {(incidents.data ?? []).map((incident) => (
        <Line key={incident.id}><span><b>{incident.title}</b><br /><Quiet>{exact(Date.parse(incident.from))} to {exact(Date.parse(incident.to))}, by {incident.writtenBy}</Quiet></span>
          <Button bare needs="responder" aria-label={`Take out ${incident.title}`} onPress={() => act(() => got(api.DELETE("/api/incidents/{id}", { params: { path: { id: incident.id } } })))}>Take out</Button></Line>
      ))}
      <TextInput label="What was wrong" value={title} onChange={setTitle} placeholder="for example: bids were turned away at the opening" />
      <Row $gap={10}><TextInput label="From" value={begin} onChange={setBegin} mistake={begun === null ? "Write it as 2026-11-24 06:00." : undefined} /><TextInput label="To" value={end} onChange={setEnd} mistake={ended === null ? "Write it as 2026-11-24 06:40." : undefined} /></Row>
      {error ? <Trouble error={error} /> : null}
    </Dialog>
  );
}
