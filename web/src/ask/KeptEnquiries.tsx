import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { Button, Quiet, Row, Trouble } from "../parts/basics";
import { TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { exact } from "../parts/time";

type Kept = Schemas["KeptEnquiry"];

const useAll = () => useQuery({ queryKey: ["enquiries"], queryFn: () => got(api.GET("/api/enquiries")) });

/** The kept enquiry an address names; undefined where there is none. */
export const useKept = (id: string | null): Kept | undefined => useAll().data?.find((one) => one.id === id);

/** Keeps an enquiry under a title, or as the next version of the one it was opened from. */
export function KeepDialog({ text, title, of, close, done }: { text: string; title: string; of: Kept | undefined; close: () => void; done: (id: string) => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState(of?.title ?? title);
  const [about, setAbout] = useState(of?.about ?? "");
  const keep = useMutation({
    mutationFn: (anew: boolean) => { const body = { title: name, about, text, version: anew ? 0 : of!.version }; return anew ? got(api.POST("/api/enquiries", { body })) : got(api.PUT("/api/enquiries/{id}", { params: { path: { id: of!.id } }, body })); },
    onSuccess: async (kept) => { await queries.invalidateQueries({ queryKey: ["enquiries"] }); void queries.invalidateQueries({ queryKey: ["sheet"] }); done(kept.id); },
  });
  return (
    <Dialog title="Keep this enquiry" width={560} onClose={close} actions={<>
      <Button main={!of} isDisabled={!name.trim() || keep.isPending} onPress={() => keep.mutate(true)}>{of ? "Keep as another" : "Keep it"}</Button>
      {of && <Button main isDisabled={!name.trim() || keep.isPending} onPress={() => keep.mutate(false)}>Change {of.title}</Button>}
    </>}>
      <TextInput label="Title" value={name} onChange={setName} autoFocus required />
      <TextInput label="What it tells" value={about} onChange={setAbout} />
      <pre style={{ margin: 0, whiteSpace: "pre-wrap" }}>{text}</pre>
      {of && <Quiet>Strips made from {of.title} follow when it is changed. Alert rules keep the text they were proved with.</Quiet>}
      {keep.error ? <Trouble error={keep.error} /> : null}
    </Dialog>
  );
}

/** Opens the list of kept enquiries. */
export function KeptList({ onAsk }: { onAsk: (kept: Kept) => void }) {
  const [open, setOpen] = useState(false);
  return <><Button bare onPress={() => setOpen(true)}>Kept enquiries</Button>{open && <ListDialog onAsk={(kept) => { setOpen(false); onAsk(kept); }} close={() => setOpen(false)} />}</>;
}

function ListDialog({ onAsk, close }: { onAsk: (kept: Kept) => void; close: () => void }) {
  const queries = useQueryClient();
  const all = useAll();
  const [asked, setAsked] = useState<string | null>(null);
  const [find, setFind] = useState("");
  const remove = useMutation({ mutationFn: (id: string) => got(api.DELETE("/api/enquiries/{id}", { params: { path: { id } } })), onSuccess: () => { setAsked(null); void queries.invalidateQueries({ queryKey: ["enquiries"] }); } });
  const found = (all.data ?? []).filter((one) => `${one.title} ${one.about} ${one.text}`.toLowerCase().includes(find.trim().toLowerCase()));
  return (
    <Dialog title="Kept enquiries" width={680} onClose={close}>
      {all.error || remove.error ? <Trouble error={all.error ?? remove.error} /> : null}
      {all.data?.length === 0 && <Quiet>None is kept yet. Ask something, then keep it: strips of sheets can follow it.</Quiet>}
      {(all.data ?? []).length > 5 && <TextInput label="Find" value={find} onChange={setFind} />}
      {found.map((one) => (
        <Row key={one.id} $gap={12} role="group" aria-label={one.title} style={{ justifyContent: "space-between", alignItems: "flex-start" }}>
          <div style={{ minWidth: 0 }}><b>{one.title}</b> <Quiet>version {one.version} by {one.changedBy}, {one.changedAt ? exact(Date.parse(one.changedAt)) : ""}</Quiet>{one.about && <div>{one.about}</div>}<code style={{ display: "block", overflowWrap: "anywhere" }}>{one.text.replace(/\s*\n\s*/g, " ")}</code></div>
          <Row $gap={6}>
            <Button aria-label={`Ask ${one.title}`} onPress={() => onAsk(one)}>Ask</Button>
            {asked === one.id ? <Button needs="author" isDisabled={remove.isPending} onPress={() => remove.mutate(one.id)}>Take out {one.title}</Button> : <Button bare needs="author" aria-label={`Take out ${one.title}`} onPress={() => setAsked(one.id)}>Take out</Button>}
          </Row>
        </Row>
      ))}
      {asked && <Quiet>Strips made from it stay as they are and no longer follow anything.</Quiet>}
    </Dialog>
  );
}
