import { useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Quiet, Trouble, Waiting } from "../parts/basics";
import { whole } from "../parts/format";
import { Dialog } from "../parts/overlays";
import { exact } from "../parts/time";
import { lineOf } from "./rawPage";

const Text = styled.pre`
  margin: 0; padding: 10px 0; height: 52vh; overflow: auto; font-size: 12px; line-height: 1.45; background: ${({ theme }) => theme.ground}; border: 1px solid ${({ theme }) => theme.rule};
  span { display: block; padding: 0 12px; white-space: pre; }
  i { display: inline-block; width: 4.5ch; margin-right: 1.5ch; text-align: right; font-style: normal; color: ${({ theme }) => theme.ink2}; user-select: none; }
  [data-wrong] { color: ${({ theme }) => theme.critical}; font-weight: 700; }
`;

/** The page an agent read last from an endpoint, as it came; the line that could not be read is marked. */
export function RawPageDialog({ cluster, source, close }: { cluster: string; source: Schemas["SourceView"]; close: () => void }) {
  const page = useQuery({ queryKey: ["raw-page", cluster, source.source], retry: false, queryFn: () => got(api.GET("/api/arrivals/page", { params: { query: { cluster, source: source.source } } })) });
  const wrong = lineOf(source.report?.error ?? source.explanation ?? "");
  const lines = (page.data?.text ?? "").split("\n");
  return (
    <Dialog title={`Last raw page of ${source.source}`} width={900} onClose={close} actions={<>
      {page.data && <Button onPress={() => void navigator.clipboard.writeText(page.data.text)}>Copy</Button>}
      <Button main isDisabled={page.isFetching} onPress={() => void page.refetch()}>Read again</Button>
    </>}>
      {page.error ? <Trouble error={page.error} /> : !page.data ? <Waiting what="Asking the agent" /> : <>
        <Quiet>{exact(Date.parse(page.data.at))}, answer {page.data.status}{page.data.contentType ? `, ${page.data.contentType}` : ""}, {whole(page.data.length)} characters{page.data.length > page.data.text.length ? `, the first ${whole(page.data.text.length)} of them here` : ""}{wrong ? `; line ${wrong} could not be read` : ""}</Quiet>
        <Text tabIndex={0}>{lines.map((line, i) => <span key={i} data-wrong={wrong === i + 1 || undefined} ref={wrong === i + 1 ? (at) => at?.scrollIntoView({ block: "center" }) : undefined}><i>{i + 1}</i>{line}</span>)}</Text>
      </>}
    </Dialog>
  );
}
