import { useState } from "react";
import type { Schemas } from "../api/client";
import { Button, Quiet } from "../parts/basics";
import { TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { readNames, writeNames } from "./outside";

/** Names for networks outside the cluster, a line each. */
export function OutsideDialog({ names, close, keep }: { names: Schemas["OutsideName"][]; close: () => void; keep: (names: Schemas["OutsideName"][]) => void }) {
  const [text, setText] = useState(writeNames(names));
  const { names: read, mistakes } = readNames(text);
  return (
    <Dialog title="Names for networks outside" width={520} onClose={close} actions={<Button main isDisabled={mistakes.length > 0} onPress={() => keep(read)}>Take over into the draft</Button>}>
      <p><Quiet>Addresses of pods and nodes get their names from the cluster. Others stand as outside, or under the first name here whose network holds them.</Quiet></p>
      <TextInput label="A network and a name in each line" rows={7} value={text} onChange={setText} placeholder={"203.0.113.0/28 buyers\n2001:db8:b::/48 buyers"} mistake={mistakes[0]} />
    </Dialog>
  );
}
