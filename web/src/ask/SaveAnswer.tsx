import { useEffect, useRef, useState } from "react";
import { Problem } from "../api/client";
import { Button, Quiet } from "../parts/basics";
import { withUnit } from "../parts/format";
import { Menu } from "../parts/overlays";

const files = [
  { id: "csv", text: "CSV", about: "a line a row, RFC 4180", accept: "text/csv" },
  { id: "jsonl", text: "JSON Lines", about: "an object a row", accept: "application/x-ndjson" },
  { id: "parquet", text: "Parquet", about: "columns, for analysis", accept: "application/vnd.apache.parquet" },
];

/** Saves the whole answer, also what the page does not show; says how much has come and can be broken off. */
export function SaveAnswer({ asked, cluster, scope, window }: { asked: string; cluster: string; scope: { namespace: string; workload: string }; window: { from: number; to: number } }) {
  const [bytes, setBytes] = useState<number | null>(null);
  const [error, setError] = useState<string | null>(null);
  const running = useRef<AbortController | null>(null);
  useEffect(() => () => running.current?.abort(), []);
  const save = async (id: string) => {
    const file = files.find((one) => one.id === id)!;
    const stop = (running.current = new AbortController());
    setError(null);
    setBytes(0);
    try {
      const response = await fetch("/api/ask", {
        method: "POST", signal: stop.signal, headers: { "content-type": "application/json", accept: file.accept },
        body: JSON.stringify({ text: asked, from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString(), cluster, scope: { namespace: scope.namespace || null, workload: scope.workload || null } }),
      });
      if (!response.ok) throw new Problem(response.status, ((await response.json()) as { title?: string }).title ?? "The answer cannot be saved.", "");
      const [parts, reader] = [[] as BlobPart[], response.body!.getReader()];
      for (let total = 0; ;) {
        const { done, value } = await reader.read();
        if (done) break;
        parts.push(value);
        setBytes((total += value.length));
      }
      const link = document.createElement("a");
      link.href = URL.createObjectURL(new Blob(parts, { type: file.accept }));
      link.download = `skevin-answer.${id}`;
      link.click();
      setTimeout(() => URL.revokeObjectURL(link.href), 60_000);
    } catch (trouble) {
      if (!stop.signal.aborted) setError(trouble instanceof Problem ? trouble.title : "The connection broke off before the file was whole. Try again.");
    } finally {
      setBytes(null);
    }
  };
  if (bytes !== null) return <><Quiet role="status">Saving, {withUnit(bytes, "By")}</Quiet><Button bare onPress={() => running.current?.abort()}>Cancel</Button></>;
  return <>{error && <Quiet role="alert">{error}</Quiet>}<Menu title="Save all" items={files} onAct={(id) => void save(id)} /></>;
}
