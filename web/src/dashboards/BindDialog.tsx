import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { Button, Mono, Quiet, Row, Trouble } from "../parts/basics";
import { Choose } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import type { Sheet } from "./sheets";

type Bound = Schemas["BoundSheet"];
const body = ({ title, about, strips, choices }: Sheet) => ({ title, about, strips, choices: choices ?? null, version: 0 });

/** The sheet with names replaced, and those that are still not known in the cluster. */
export const bind = (sheet: Sheet, cluster: string, bindings: Schemas["NameBinding"][]) => got(api.POST("/api/sheets/bind", { body: { sheet: body(sheet), cluster, bindings } }));

/** What a sheet from elsewhere calls otherwise than it is called here, name by name; the nearest is offered, nothing is replaced unasked. */
export function BindDialog({ begin, cluster, take, close }: { begin: Bound; cluster: string; take: (sheet: Sheet) => void; close: () => void }) {
  const [bound, setBound] = useState(begin);
  const [to, setTo] = useState<Record<string, string>>({});
  const key = (name: Schemas["ForeignName"]) => `${name.source}\n${name.name}`;
  const replace = useMutation({
    mutationFn: () => bind(bound.sheet, cluster, bound.foreign.filter((name) => to[key(name)]).map((name) => ({ source: name.source, name: name.name, to: to[key(name)]! }))),
    onSuccess: (next) => { setTo({}); if (next.foreign.length === 0) take(next.sheet); else setBound(next); },
  });
  const many = bound.foreign.length;
  return (
    <Dialog title={`What ${bound.sheet.title} calls otherwise`} width={720} onClose={close}
      actions={<><Button onPress={() => take(bound.sheet)}>Leave the rest as it is</Button><Button main isDisabled={replace.isPending || Object.values(to).every((name) => !name)} onPress={() => replace.mutate()}>Replace them</Button></>}>
      <Quiet>{many === 1 ? "One name of this sheet is" : `${many} names of this sheet are`} not known in {cluster}. Say what they are called there; strips whose names stay as they are will say that there is no such metric or field.</Quiet>
      {bound.foreign.map((name) => {
        const others = (bound.known[name.source] ?? []).filter((one) => !name.nearest.includes(one));
        return (
          <Row key={key(name)} $gap={12} role="group" aria-label={name.name} style={{ justifyContent: "space-between", alignItems: "flex-start" }}>
            <div style={{ minWidth: 0, overflowWrap: "anywhere" }}><Mono>{name.name}</Mono><br /><Quiet>{name.source ? `a field of ${name.source}` : "a metric"}, in {name.strips.join(", ")}</Quiet></div>
            <Choose label={`${name.name} is here`} hideLabel value={to[key(name)] ?? ""} onChange={(value) => setTo({ ...to, [key(name)]: value })} options={[{ id: "", text: "as it is" }, ...[...name.nearest, ...others].map((one) => ({ id: one, text: one }))]} />
          </Row>
        );
      })}
      {replace.error ? <Trouble error={replace.error} /> : null}
    </Dialog>
  );
}
