import { useQuery } from "@tanstack/react-query";
import Markdown from "react-markdown";
import styled from "styled-components";
import { api, got } from "../api/client";
import { Quiet, Trouble, Waiting } from "../parts/basics";
import { Dialog } from "../parts/overlays";

const Text = styled.div`
  h1 { display: none; }
  h2 { font-size: 13px; margin: 14px 0 4px; }
  p { margin: 0 0 6px; }
  ul { margin: 0; padding-left: 18px; }
  li { margin: 3px 0; }
  code { font-family: ${({ theme }) => theme.mono}; background: ${({ theme }) => theme.sunk}; padding: 0 3px; overflow-wrap: anywhere; }
`;

/** A runbook that ships: what an alarm means, what to look at, what to do. */
export function RunbookDialog({ name, close }: { name: string; close: () => void }) {
  const [area = "", own = ""] = name.split("/");
  const runbook = useQuery({ queryKey: ["runbook", name], retry: false, queryFn: () => got(api.GET("/api/runbooks/{area}/{name}", { params: { path: { area, name: own } } })) });
  return (
    <Dialog title={/^# (.*)/.exec(runbook.data?.text ?? "")?.[1] ?? "Runbook"} width={620} onClose={close}>
      {runbook.isPending ? <Waiting what="Reading the runbook" /> : runbook.error ? <Trouble error={runbook.error} /> : <Text><Markdown>{runbook.data.text}</Markdown></Text>}
      <Quiet>Enquiries are asked under Ask; a word in capitals stands for the one in question.</Quiet>
    </Dialog>
  );
}
