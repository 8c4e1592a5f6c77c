import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Quiet, Row, Trouble } from "../parts/basics";
import { TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { exact } from "../parts/time";

const Shown = styled.pre`margin: 0; padding: 10px; overflow-wrap: anywhere; white-space: pre-wrap; background: ${({ theme }) => theme.sunk};`;
const Line = styled(Row)`justify-content: space-between; border-top: 1px solid ${({ theme }) => theme.rule}; padding-top: 6px;`;

/** Tokens that may push data of this cluster: the agents' own, and those for other senders. */
export function TokensDialog({ cluster, close }: { cluster: string; close: () => void }) {
  const queries = useQueryClient();
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => got(api.GET("/api/tokens")) });
  const [name, setName] = useState("");
  const [most, setMost] = useState("");
  const [made, setMade] = useState<string | null>(null);
  const [asking, setAsking] = useState<string | null>(null);
  const [error, setError] = useState<unknown>(null);
  const act = async (work: () => Promise<unknown>) => { try { setError(null); await work(); } catch (wrong) { setError(wrong); } void queries.invalidateQueries({ queryKey: ["tokens"] }); };
  const own = (tokens.data ?? []).filter((token: Schemas["TokenView"]) => token.cluster === cluster);
  return (
    <Dialog title={`Ingest tokens of ${cluster}`} width={620} onClose={close} actions={<Button main isDisabled={!name.trim()} onPress={() => act(async () => { setMade((await got(api.POST("/api/tokens", { body: { name, cluster, expires: null, itemsPerSecond: Number(most) > 0 ? Math.floor(Number(most)) : null } }))).token); setName(""); setMost(""); })}>Make a token</Button>}>
      <Quiet>Whoever holds a token may push as this cluster: OTLP over HTTP to /v1/metrics, /v1/logs and /v1/traces, or over gRPC to port 4317, with Authorization: Bearer; IPFIX to /v1/flows.</Quiet>
      {tokens.error ? <Trouble error={tokens.error} /> : null}
      {made && <div role="status">This token is shown once. Copy it now.<Shown>{made}</Shown><Button bare onPress={() => void navigator.clipboard.writeText(made)}>Copy</Button></div>}
      {own.map((token) => (
        <Line key={token.id}>
          <span><b>{token.name}</b><br /><Quiet>made {exact(Date.parse(token.createdAt))} by {token.createdBy}{token.itemsPerSecond ? `, at most ${token.itemsPerSecond} items a second` : ""}{token.revokedAt ? `, revoked ${exact(Date.parse(token.revokedAt))}` : ""}</Quiet></span>
          {!token.revokedAt && (asking === token.id
            ? <Button main onPress={() => act(async () => { await got(api.DELETE("/api/tokens/{id}", { params: { path: { id: token.id } } })); setAsking(null); })}>Revoke {token.name} for good</Button>
            : <Button bare onPress={() => setAsking(token.id)} aria-label={`Revoke ${token.name}`}>Revoke</Button>)}
        </Line>
      ))}
      <TextInput label="Name of a new token" value={name} onChange={setName} help="Says who pushes with it, for example the weighbridge's own computer." />
      <TextInput label="At most, a second" value={most} onChange={setMost} help="Samples, lines, spans and flows; empty for any number. What is more is refused with the time to come again." />
      {error ? <Trouble error={error} /> : null}
    </Dialog>
  );
}
