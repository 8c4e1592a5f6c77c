import { useState } from "react";
import { Button, Row } from "../parts/basics";
import { Choose, TextInput } from "../parts/fields";
import { Drawer } from "../parts/overlays";
import { blocks, curves, drawWords, type Strip } from "./sheets";

const heights = [72, 84, 96, 120, 160, 220, 320];

/** What one strip shows and how; a change is one step of the undo. */
export function StripEditor({ strip, isNew, onKeep, onClose }: { strip: Strip; isNew: boolean; onKeep: (strip: Strip) => void; onClose: () => void }) {
  const [draft, setDraft] = useState(strip);
  const change = (part: Partial<Strip>) => setDraft({ ...draft, ...part });
  return (
    <Drawer title={isNew ? "A new strip" : strip.title} onClose={onClose}>
      <form style={{ display: "grid", gap: 10 }} onSubmit={(event) => { event.preventDefault(); onKeep(draft); }}>
        <TextInput label="Title" value={draft.title} onChange={(title) => change({ title })} autoFocus required />
        <TextInput label="Of what" value={draft.subtitle} onChange={(subtitle) => change({ subtitle })} />
        <TextInput label="Enquiry" rows={5} value={draft.text} onChange={(text) => change({ text })} help="Try it under Ask first; there it can be put on a sheet too." required />
        <Choose label="Drawn as" value={draft.draw} onChange={(draw) => change({ draw })} options={[...curves, ...blocks].map((id) => ({ id: id as string, text: drawWords[id]! }))} />
        <Choose label="Height" value={String(draft.height)} onChange={(height) => change({ height: Number(height) })} options={[...new Set([...heights, draft.height])].sort((a, b) => a - b).map((height) => ({ id: String(height), text: `${height} px` }))} />
        <TextInput label="Told apart by" value={draft.by} onChange={(by) => change({ by })} help="The label that names its series, such as namespace, node or level." />
        <TextInput label="What it means" rows={3} value={draft.about} onChange={(about) => change({ about })} />
        <Row $gap={8}><Button main type="submit" isDisabled={!draft.title.trim() || !draft.text.trim()}>{isNew ? "Add it" : "Take over"}</Button><Button onPress={onClose}>Leave</Button></Row>
      </form>
    </Drawer>
  );
}
