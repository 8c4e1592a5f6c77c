import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { FileTrigger } from "react-aria-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Quiet, Row, Trouble, Waiting } from "../parts/basics";
import { TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { exact } from "../parts/time";
import { sheetDifference } from "./sheetDifference";
import { bind, BindDialog } from "./BindDialog";
import type { Sheet, Strip } from "./sheets";

/** A sheet from a file, pasted or chosen; mistakes are named with their line, and names that are not known in the cluster are bound to what is. */
export function ImportDialog({ cluster, take, close }: { cluster: string; take: (sheet: Sheet) => void; close: () => void }) {
  const [text, setText] = useState("");
  const [foreign, setForeign] = useState<Schemas["BoundSheet"] | null>(null);
  const read = useMutation({
    mutationFn: async () => bind(await got(api.POST("/api/sheets/read", { body: { text } })), cluster, []),
    onSuccess: (bound) => (bound.foreign.length === 0 ? take(bound.sheet) : setForeign(bound)),
  });
  const [address, setAddress] = useState("");
  const fetched = useMutation({ mutationFn: () => got(api.POST("/api/sheets/fetch", { body: { address } })), onSuccess: (file) => setText(file.text) });
  if (foreign) return <BindDialog begin={foreign} cluster={cluster} take={take} close={close} />;
  return (
    <Dialog title="Import a sheet" width={640} onClose={close} actions={<Button main isDisabled={!text.trim() || read.isPending} onPress={() => read.mutate()}>Read it</Button>}>
      <Quiet>YAML or JSON of the form docs/formats/sheet.schema.json describes. It becomes a draft; nothing is kept before you say so.</Quiet>
      <Row $gap={8} style={{ alignItems: "flex-end" }}><FileTrigger acceptedFileTypes={[".yaml", ".yml", ".json"]} onSelect={async (files) => { const file = files?.[0]; if (file) setText(await file.text()); }}><Button>Choose a file</Button></FileTrigger>
        <div style={{ flex: 1 }}><TextInput label="Or an address" value={address} onChange={setAddress} placeholder="https://sheets.larkfield.example/cold-rooms.yaml" /></div>
        <Button needs="author" isDisabled={!address.trim() || fetched.isPending} onPress={() => fetched.mutate()}>{fetched.isPending ? "Fetching" : "Fetch"}</Button></Row>
      <TextInput label="Text" rows={14} value={text} onChange={setText} />
      {read.error || fetched.error ? <Trouble error={read.error ?? fetched.error} /> : null}
    </Dialog>
  );
}

/** Every version there was; an older one can be made the draft. */
export function VersionsDialog({ sheet, take, close }: { sheet: Sheet; take: (sheet: Sheet) => void; close: () => void }) {
  const versions = useQuery({ queryKey: ["sheet-versions", sheet.id, sheet.version], queryFn: () => got(api.GET("/api/sheets/{id}/versions", { params: { path: { id: sheet.id } } })) });
  const read = (version: number) => got(api.GET("/api/sheets/{id}", { params: { path: { id: sheet.id }, query: { version } } }));
  const fetched = useMutation({ mutationFn: read, onSuccess: take });
  const [compared, setCompared] = useState<number | null>(null);
  const older = useQuery({ queryKey: ["sheet", sheet.id, compared], enabled: compared !== null, queryFn: () => read(compared!) });
  return (
    <Dialog title={`Versions of ${sheet.title}`} width={640} onClose={close}>
      {versions.error || fetched.error || older.error ? <Trouble error={versions.error ?? fetched.error ?? older.error} /> : null}
      {versions.isPending && <Waiting what="Reading the versions" />}
      {versions.data?.map((one) => <div key={one.version}><Row style={{ justifyContent: "space-between" }}>
        <span><b>{one.version}</b>{one.version === sheet.version ? ", as it is" : ""} {one.title}, {one.strips} {one.strips === 1 ? "strip" : "strips"}<br /><Quiet>by {one.changedBy}, {exact(Date.parse(one.changedAt))}</Quiet></span>
        {one.version !== sheet.version && <Row $gap={6}>
          <Button bare aria-expanded={compared === one.version} aria-label={`Difference from version ${one.version}`} onPress={() => setCompared(compared === one.version ? null : one.version)}>Difference</Button>
          <Button aria-label={`Take version ${one.version} as the draft`} onPress={() => fetched.mutate(one.version)}>Take as the draft</Button>
        </Row>}
      </Row>
        {compared === one.version && older.data && <Difference before={older.data} after={sheet} />}
      </div>)}
    </Dialog>
  );
}

/** What became otherwise between two versions, a line a change. */
function Difference({ before, after }: { before: Sheet; after: Sheet }) {
  const changes = sheetDifference(before, after);
  if (changes.length === 0) return <Quiet>Version {before.version} is as the sheet is now.</Quiet>;
  return (
    <ul aria-label={`Changes since version ${before.version}`} style={{ margin: "4px 0 8px", paddingLeft: 18 }}>
      {changes.map((change, i) => <li key={i}><b>{change.strip || "The sheet"}</b>: {change.text}
        {change.before ? <div><Quiet>was</Quiet> <code style={{ overflowWrap: "anywhere" }}>{change.before}</code></div> : null}
        {change.after ? <div><Quiet>is</Quiet> <code style={{ overflowWrap: "anywhere" }}>{change.after}</code></div> : null}</li>)}
    </ul>
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
export function PutOnSheet({ text, title, kept, draw, close, done }: { text: string; title: string; /** The kept enquiry the text is of. */ kept: string | null; draw: "lines" | "table" | "log" | "lanes"; close: () => void; done: (id: string) => void }) {
  const queries = useQueryClient();
  const sheets = useQuery({ queryKey: ["sheets"], queryFn: () => got(api.GET("/api/sheets")) });
  const [name, setName] = useState(title);
  const [fresh, setFresh] = useState("");
  const strip: Strip = { title: name, subtitle: "", text, draw, height: draw === "lines" ? 96 : draw === "lanes" ? 460 : 220, by: "", about: "", kept };
  const put = useMutation({
    mutationFn: async (id: string | null) => {
      if (id === null) return got(api.POST("/api/sheets", { body: { title: fresh, about: "", strips: [strip], version: 0 } }));
      const sheet = await got(api.GET("/api/sheets/{id}", { params: { path: { id } } }));
      return got(api.PUT("/api/sheets/{id}", { params: { path: { id } }, body: { title: sheet.title, about: sheet.about, choices: sheet.choices ?? null, strips: [...sheet.strips, strip], version: sheet.version } }));
    },
    onSuccess: (sheet: Schemas["Sheet"]) => { void queries.invalidateQueries({ queryKey: ["sheets"] }); void queries.invalidateQueries({ queryKey: ["sheet", sheet.id] }); done(sheet.id); },
  });
  const own = (sheets.data ?? []).filter((sheet) => sheet.own);
  return (
    <Dialog title="Put it on a sheet" width={520} onClose={close}>
      {kept && <Quiet>The strip follows the kept enquiry: when that is changed, so is the sheet.</Quiet>}
      <TextInput label="Title of the strip" value={name} onChange={setName} autoFocus required />
      {own.map((sheet) => <Row key={sheet.id} style={{ justifyContent: "space-between" }}><span>{sheet.title} <Quiet>{sheet.strips} strips</Quiet></span><Button isDisabled={!name.trim() || put.isPending} onPress={() => put.mutate(sheet.id)}>Put on {sheet.title}</Button></Row>)}
      <Row $gap={8} style={{ alignItems: "flex-end" }}><TextInput label="Or on a new sheet named" value={fresh} onChange={setFresh} /><Button isDisabled={!name.trim() || !fresh.trim() || put.isPending} onPress={() => put.mutate(null)}>Make it</Button></Row>
      {put.error ? <Trouble error={put.error} /> : null}
    </Dialog>
  );
}

