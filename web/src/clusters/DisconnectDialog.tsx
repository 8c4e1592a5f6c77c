import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { Button, Quiet, Trouble } from "../parts/basics";
import { Switch } from "../parts/fields";
import { Dialog } from "../parts/overlays";

/** Forgets a cluster; what was rolled out to it is taken out first, unless one does not want that. */
export function DisconnectDialog({ cluster, close, gone }: { cluster: string; close: () => void; gone: () => void }) {
  const queries = useQueryClient();
  const collection = useQuery({ queryKey: ["collection", cluster], queryFn: () => got(api.GET("/api/clusters/{name}/collection", { params: { path: { name: cluster } } })) });
  const [takeOut, setTakeOut] = useState(true);
  const rolledOut = (collection.data?.revision ?? 0) > 0;
  const path = { params: { path: { name: cluster } } };
  const disconnect = useMutation({
    mutationFn: async () => {
      if (rolledOut && takeOut) await got(api.DELETE("/api/clusters/{name}/collection", path));
      await got(api.DELETE("/api/clusters/{name}", path));
    },
    onSuccess: () => { gone(); void queries.invalidateQueries(); },
  });
  return (
    <Dialog title={`Disconnect ${cluster}?`} width={480} onClose={close} actions={<Button main isDisabled={disconnect.isPending || collection.isPending} onPress={() => disconnect.mutate()}>{disconnect.isPending ? "Disconnecting" : `Disconnect ${cluster}`}</Button>}>
      <p>Skevin forgets {cluster} and its series. This cannot be undone.</p>
      {rolledOut && <Switch on={takeOut} onChange={setTakeOut}>Take the agents out of it first</Switch>}
      {rolledOut && !takeOut && <p><Quiet>The agents stay, with the namespace skevin-agents and the role skevin-agent; what they send is refused from now on.</Quiet></p>}
      {disconnect.error ? <Trouble error={disconnect.error} /> : null}
    </Dialog>
  );
}
