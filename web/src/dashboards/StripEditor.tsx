import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { Button, Quiet, Row } from "../parts/basics";
import { Choose, TextInput } from "../parts/fields";
import { Drawer } from "../parts/overlays";
import { colourWords, severities, type StripBound } from "./bounds";
import { blocks, curves, drawWords, type Strip } from "./sheets";

const heights = [72, 84, 96, 120, 160, 220, 320, 460];
const mostBounds = 4;

/** What one strip shows and how; a change is one step of the undo. */
export function StripEditor({ strip, isNew, onKeep, onClose }: { strip: Strip; isNew: boolean; onKeep: (strip: Strip) => void; onClose: () => void }) {
  const [draft, setDraft] = useState(strip);
  const change = (part: Partial<Strip>) => setDraft({ ...draft, ...part });
  const kept = useQuery({ queryKey: ["enquiries"], queryFn: () => got(api.GET("/api/enquiries")) });
  const follows = kept.data?.find((one) => one.id === draft.kept);
  const bounds = draft.bounds ?? [];
  const colours = Object.entries(draft.colours ?? {});
  const bound = (at: number, part: Partial<StripBound>) => change({ bounds: bounds.map((one, i) => (i === at ? { ...one, ...part } : one)) });
  const colour = (at: number, pair: [string, string]) => change({ colours: Object.fromEntries(colours.map((one, i) => (i === at ? pair : one))) });
  return (
    <Drawer title={isNew ? "A new strip" : strip.title} onClose={onClose}>
      <form style={{ display: "grid", gap: 10 }} onSubmit={(event) => { event.preventDefault(); onKeep({ ...draft, bounds: bounds.filter(({ at }) => at.trim()), colours: Object.fromEntries(colours.filter(([value]) => value.trim())) }); }}>
        <TextInput label="Title" value={draft.title} onChange={(title) => change({ title })} autoFocus required />
        <TextInput label="Of what" value={draft.subtitle} onChange={(subtitle) => change({ subtitle })} />
        {(kept.data ?? []).length > 0 && <Choose label="Made from" value={follows ? follows.id : ""} onChange={(id) => { const one = kept.data!.find((enquiry) => enquiry.id === id); change(one ? { kept: one.id, text: one.text, title: draft.title || one.title, about: draft.about || one.about } : { kept: null }); }} options={[{ id: "", text: "an enquiry of its own" }, ...kept.data!.map(({ id, title }) => ({ id, text: title }))]} />}
        {follows ? <div><pre style={{ whiteSpace: "pre-wrap", margin: "0 0 4px" }}>{follows.text}</pre><Quiet>It follows the kept enquiry. Change that under Ask, or make it an enquiry of its own.</Quiet></div>
          : <TextInput label="Enquiry" rows={5} value={draft.text} onChange={(text) => change({ text })} help="Try it under Ask first; there it can be put on a sheet too." required />}
        <Choose label="Drawn as" value={draft.draw} onChange={(draw) => change({ draw })} options={[...curves, ...blocks].map((id) => ({ id: id as string, text: drawWords[id]! }))} />
        <Choose label="Height" value={String(draft.height)} onChange={(height) => change({ height: Number(height) })} options={[...new Set([...heights, draft.height])].sort((a, b) => a - b).map((height) => ({ id: String(height), text: `${height} px` }))} />
        <TextInput label="Told apart by" value={draft.by} onChange={(by) => change({ by })} help="The label that names its series, such as namespace, node or level." />
        <b>Bounds</b>
        {bounds.map((one, i) => (
          <Row key={i} $gap={6} $wrap role="group" aria-label={`Bound ${i + 1}`} style={{ alignItems: "flex-end" }}>
            <div style={{ width: 84 }}><TextInput label="Bound" hideLabel value={one.at} onChange={(at) => bound(i, { at })} placeholder="400ms" /></div>
            <Choose label="Side" hideLabel value={one.below ? "below" : "above"} onChange={(side) => bound(i, { below: side === "below" })} options={[{ id: "above", text: "above" }, { id: "below", text: "below" }]} />
            <Choose label="Severity" hideLabel value={one.severity} onChange={(severity) => bound(i, { severity })} options={severities.map((id) => ({ id: id as string, text: id }))} />
            <Button bare aria-label={`Take out bound ${i + 1}`} onPress={() => change({ bounds: bounds.filter((_, j) => j !== i) })}>×</Button>
          </Row>))}
        {bounds.length < mostBounds && <Row><Button bare onPress={() => change({ bounds: [...bounds, { at: "", severity: "major", below: false }] })}>Add a bound</Button></Row>}
        <b>Colours by meaning</b>
        {colours.map(([value, word], i) => (
          <Row key={i} $gap={6} role="group" aria-label={`Colour ${i + 1}`} style={{ alignItems: "flex-end" }}>
            <div style={{ width: 140 }}><TextInput label="Value" hideLabel value={value} onChange={(next) => colour(i, [next, word])} placeholder={draft.by ? `a ${draft.by}` : "a value"} /></div>
            <Choose label="Colour" hideLabel value={word} onChange={(next) => colour(i, [value, next])} options={colourWords.map((id) => ({ id: id as string, text: id }))} />
            <Button bare aria-label={`Take out colour ${i + 1}`} onPress={() => change({ colours: Object.fromEntries(colours.filter((_, j) => j !== i)) })}>×</Button>
          </Row>))}
        {draft.by && <Row><Button bare isDisabled={colours.some(([value]) => !value)} onPress={() => change({ colours: { ...draft.colours, "": "critical" } })}>Add a colour</Button></Row>}
        {!draft.by && <Quiet>Say first what its series are told apart by.</Quiet>}
        <TextInput label="What it means" rows={3} value={draft.about} onChange={(about) => change({ about })} />
        <Row $gap={8}><Button main type="submit" isDisabled={!draft.title.trim() || !draft.text.trim()}>{isNew ? "Add it" : "Take over"}</Button><Button onPress={onClose}>Leave</Button></Row>
      </form>
    </Drawer>
  );
}
