import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { Button, Quiet, Row, Trouble, Waiting } from "../parts/basics";
import { TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { exact } from "../parts/time";
import type { Sheet, Strip } from "./sheets";

/** A sheet from a file, pasted or chosen; mistakes are named with their line. */
export function ImportDialog({ take, close }: { take: (sheet: Sheet) => void; close: () => void }) {
  const [text, setText] = useState("");
  const read = useMutation({ mutationFn: () => got(api.POST("/api/sheets/read", { body: { text } })), onSuccess: take });
  return (
    <Dialog title="Import a sheet" width={640} onClose={close} actions={<Button main isDisabled={!text.trim() || read.isPending} onPress={() => read.mutate()}>Read it</Button>}>
      <Quiet>YAML or JSON of the form docs/formats/sheet.schema.json describes. It becomes a draft; nothing is kept before you say so.</Quiet>
      <input type="file" aria-label="File" accept=".yaml,.yml,.json" onChange={async (event) => { const file = event.target.files?.[0]; if (file) setText(await file.text()); }} />
      <TextInput label="Text" rows={14} value={text} onChange={setText} />
      {read.error ? <Trouble error={read.error} /> : null}
    </Dialog>
  );
}

/** Every version there was; an older one can be made the draft. */
export function VersionsDialog({ sheet, take, close }: { sheet: Sheet; take: (sheet: Sheet) => void; close: () => void }) {
  const versions = useQuery({ queryKey: ["sheet-versions", sheet.id, sheet.version], queryFn: () => got(api.GET("/api/sheets/{id}/versions", { params: { path: { id: sheet.id } } })) });
  const fetched = useMutation({ mutationFn: (version: number) => got(api.GET("/api/sheets/{id}", { params: { path: { id: sheet.id }, query: { version } } })), onSuccess: take });
  return (
    <Dialog title={`Versions of ${sheet.title}`} width={560} onClose={close}>
      {versions.error || fetched.error ? <Trouble error={versions.error ?? fetched.error} /> : null}
      {versions.isPending && <Waiting what="Reading the versions" />}
      {versions.data?.map((one) => <Row key={one.version} style={{ justifyContent: "space-between" }}>
        <span><b>{one.version}</b>{one.version === sheet.version ? ", as it is" : ""} {one.title}, {one.strips} {one.strips === 1 ? "strip" : "strips"}<br /><Quiet>by {one.changedBy}, {exact(Date.parse(one.changedAt))}</Quiet></span>
        {one.version !== sheet.version && <Button aria-label={`Take version ${one.version} as the draft`} onPress={() => fetched.mutate(one.version)}>Take as the draft</Button>}
      </Row>)}
    </Dialog>
  );
}

export function RemoveDialog({ sheet, done, close }: { sheet: Sheet; done: () => void; close: () => void }) {
  const queries = useQueryClient();
  const remove = useMutation({ mutationFn: () => got(api.DELETE("/api/sheets/{id}", { params: { path: { id: sheet.id } } })), onSuccess: () => { void queries.invalidateQueries({ queryKey: ["sheets"] }); done(); } });
  return (
    <Dialog title={`Take out ${sheet.title}?`} width={440} onClose={close} actions={<Button main isDisabled={remove.isPending} onPress={() => remove.mutate()}>Take out {sheet.title}</Button>}>
      It is gone from the list for everybody. Save it as a file first if you may want it again.
      {remove.error ? <Trouble error={remove.error} /> : null}
    </Dialog>
  );
}

/** Puts an enquiry as a strip on a sheet of one's own, or on a new one. */
export function PutOnSheet({ text, title, rows, close, done }: { text: string; title: string; rows: boolean; close: () => void; done: (id: string) => void }) {
  const queries = useQueryClient();
  const sheets = useQuery({ queryKey: ["sheets"], queryFn: () => got(api.GET("/api/sheets")) });
  const [name, setName] = useState(title);
  const [fresh, setFresh] = useState("");
  const strip: Strip = { title: name, subtitle: "", text, draw: rows ? "table" : "lines", height: rows ? 220 : 96, by: "", about: "" };
  const put = useMutation({
    mutationFn: async (id: string | null) => {
      if (id === null) return got(api.POST("/api/sheets", { body: { title: fresh, about: "", strips: [strip], version: 0 } }));
      const sheet = await got(api.GET("/api/sheets/{id}", { params: { path: { id } } }));
      return got(api.PUT("/api/sheets/{id}", { params: { path: { id } }, body: { title: sheet.title, about: sheet.about, strips: [...sheet.strips, strip], version: sheet.version } }));
    },
    onSuccess: (sheet: Schemas["Sheet"]) => { void queries.invalidateQueries({ queryKey: ["sheets"] }); void queries.invalidateQueries({ queryKey: ["sheet", sheet.id] }); done(sheet.id); },
  });
  const own = (sheets.data ?? []).filter((sheet) => sheet.own);
  return (
    <Dialog title="Put it on a sheet" width={520} onClose={close}>
      <TextInput label="Title of the strip" value={name} onChange={setName} autoFocus required />
      {own.map((sheet) => <Row key={sheet.id} style={{ justifyContent: "space-between" }}><span>{sheet.title} <Quiet>{sheet.strips} strips</Quiet></span><Button isDisabled={!name.trim() || put.isPending} onPress={() => put.mutate(sheet.id)}>Put on {sheet.title}</Button></Row>)}
      <Row $gap={8} style={{ alignItems: "flex-end" }}><TextInput label="Or on a new sheet named" value={fresh} onChange={setFresh} /><Button isDisabled={!name.trim() || !fresh.trim() || put.isPending} onPress={() => put.mutate(null)}>Make it</Button></Row>
      {put.error ? <Trouble error={put.error} /> : null}
    </Dialog>
  );
}

