import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { Button, Quiet, Trouble } from "../parts/basics";
import { NumberInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";

const signals = ["metrics", "logs", "traces", "flows"] as const;

/** How long each signal is kept, for all clusters. */
export function RetentionDialog({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const kept = useQuery({ queryKey: ["retention"], queryFn: () => got(api.GET("/api/retention")) });
  const [draft, setDraft] = useState<Partial<Schemas["RetentionView"]>>({});
  const [error, setError] = useState<unknown>(null);
  const of = (signal: (typeof signals)[number]) => draft[signal] ?? kept.data?.[signal] ?? 0;
  const shorter = kept.data ? signals.filter((signal) => of(signal) < kept.data[signal]) : [];
  return (
    <Dialog title="How long it is kept" width={440} onClose={close} actions={<Button main needs="keeper" isDisabled={!kept.data} onPress={async () => {
      try { setError(null); await got(api.PUT("/api/retention", { body: { metrics: of("metrics"), logs: of("logs"), traces: of("traces"), flows: of("flows") } })); void queries.invalidateQueries({ queryKey: ["retention"] }); close(); } catch (wrong) { setError(wrong); }
    }}>{shorter.length > 0 ? "Keep it shorter" : "Keep it so"}</Button>}>
      {kept.data && <p><Quiet>In days, for all clusters, up to {kept.data.most}. Summaries of metrics, five minutes wide, are kept {kept.data.summaries} days whatever stands here.</Quiet></p>}
      {signals.map((signal) => <NumberInput key={signal} label={`${signal[0]!.toUpperCase()}${signal.slice(1)}, days`} value={of(signal)} onChange={(days) => setDraft({ ...draft, [signal]: Math.round(days) })} />)}
      {shorter.length > 0 && <p role="status">{shorter.map((signal) => `${signal} older than ${of(signal)} days`).join(", ")} {shorter.length === 1 ? "goes" : "go"} within ten minutes and cannot be brought back.</p>}
      {kept.error || error ? <Trouble error={kept.error ?? error} /> : null}
    </Dialog>
  );
}
