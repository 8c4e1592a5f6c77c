import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, got } from "../api/client";
import { Button, Quiet, Trouble } from "../parts/basics";
import { Dialog } from "../parts/overlays";
import { removalWords } from "./rollOut";

/** Takes everything a roll-out has put into a cluster out of it again. */
export function RemoveDialog({ cluster, agents, close }: { cluster: string; agents: number; close: () => void }) {
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: () => got(api.DELETE("/api/clusters/{name}/collection", { params: { path: { name: cluster } } })),
    onSettled: () => void queries.invalidateQueries(),
  });
  return (
    <Dialog title={`Take the agents out of ${cluster}?`} width={500} onClose={close} actions={remove.data ? <Button main onPress={close}>Close</Button> : <Button main isDisabled={remove.isPending} onPress={() => remove.mutate()}>{remove.isPending ? "Taking out" : `Take out ${agents} agents`}</Button>}>
      {remove.data ? removalWords(remove.data).map((line) => <p key={line} role="status">{line}</p>) : <>
        <p>Goes from the cluster: the namespace skevin-agents with the agents, their plan and their secrets, the role skevin-agent and its binding, and what the agents keep on their nodes. Their token is revoked.</p>
        <p><Quiet>What was collected stays here until its time, and so does the plan: it can be rolled out again.</Quiet></p>
      </>}
      {remove.error ? <Trouble error={remove.error} /> : null}
    </Dialog>
  );
}
