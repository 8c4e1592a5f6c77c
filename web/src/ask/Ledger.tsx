import { useState } from "react";
import styled from "styled-components";
import type { Schemas } from "../api/client";
import { Button, Quiet } from "../parts/basics";
import { whole } from "../parts/format";
import { withStep } from "./steps";

const Grid = styled.table`
  width: 100%;
  border-collapse: collapse;
  table-layout: fixed;
  th { text-align: left; font-weight: 400; color: ${({ theme }) => theme.ink2}; padding: 5px 12px; }
  td { padding: 4px 12px; border-top: 1px solid ${({ theme }) => theme.rule}; vertical-align: baseline; overflow-wrap: anywhere; }
  .left { width: 92px; text-align: right; font-family: ${({ theme }) => theme.mono}; font-variant-numeric: tabular-nums; }
  th.left { font-family: inherit; }
  .note { width: 42%; color: ${({ theme }) => theme.ink2}; }
  code { font-size: 13px; white-space: pre-wrap; }
  code b { color: ${({ theme }) => theme.act}; font-weight: 700; }
  div.step { display: flex; gap: 8px; align-items: baseline; }
  div.step > form { flex: 1; }
  div.step > button.text { font: inherit; text-align: left; flex: 1; padding: 0; border: 0; background: none; color: inherit; cursor: text; overflow-wrap: anywhere; }
  div.step > button.text:hover code { text-decoration: underline dotted; text-underline-offset: 3px; }
  div.step > .acts { visibility: hidden; white-space: nowrap; }
  tr:hover .acts, tr:focus-within .acts { visibility: visible; }
  input { width: 100%; font: inherit; font-family: ${({ theme }) => theme.mono}; font-size: 13px; padding: 2px 6px; background: ${({ theme }) => theme.sunk}; color: inherit; border: 1px solid ${({ theme }) => theme.rule}; border-radius: 3px; }
  code q { quotes: none; color: ${({ theme }) => theme.traces}; }
`;

/** A step with its first word and its texts set off. */
function StepText({ text, first }: { text: string; first: boolean }) {
  const [word, ...rest] = text.split(" ");
  const parts = rest.join(" ").split(/("(?:[^"\\]|\\.)*")/);
  return <code>{first ? "  " : <Quiet>→ </Quiet>}<b>{word}</b>{rest.length > 0 ? " " : ""}{parts.map((part, i) => (part.startsWith('"') ? <q key={i}>{part}</q> : part))}</code>;
}

/** A step being written: Enter asks, Escape leaves it as it was. */
function StepField({ label, text, onDone, onLeave }: { label: string; text: string; onDone: (text: string) => void; onLeave: () => void }) {
  const [value, setValue] = useState(text);
  return (
    <form onSubmit={(event) => { event.preventDefault(); onDone(value); }}>
      <input aria-label={label} autoFocus spellCheck={false} value={value} onChange={(event) => setValue(event.target.value)} onKeyDown={(event) => { if (event.key === "Escape") { event.stopPropagation(); onLeave(); } }} />
    </form>
  );
}

/** The enquiry step by step, with how many series or rows each step left. A step is changed where it stands. */
export function Ledger({ steps, notes, formatted, onCure, onAsk }: { steps: Schemas["StepView"][]; notes: Schemas["NoteView"][]; formatted: string; onCure: (note: Schemas["NoteView"]) => void; onAsk: (text: string) => void }) {
  const [at, setAt] = useState<{ step: number; behind: boolean } | null>(null);
  const done = (written: string | null, step: number, behind: boolean) => { setAt(null); const changed = withStep(formatted, steps, step, written, behind); if (changed !== formatted) onAsk(changed); };
  const gaps = notes.filter((note) => note.kind === "gap");
  const shown = notes.filter((note) => note.kind !== "gap");
  return (
    <Grid aria-label="Steps">
      <thead><tr><th>Steps</th><th className="left">left</th><th className="note">note</th></tr></thead>
      <tbody>
        {steps.map((step, i) => (
          <tr key={i}>
            <td><div className="step">
              {at?.step === i && !at.behind ? <StepField label={`Step ${i + 1}`} text={step.text} onDone={(written) => done(written, i, false)} onLeave={() => setAt(null)} />
                : step.scope ? <StepText text={step.text} first={false} />
                : <button type="button" className="text" aria-label={`Change step ${i + 1}: ${step.text}`} onClick={() => setAt({ step: i, behind: false })}><StepText text={step.text} first={i === 0} /></button>}
              {!step.scope && at?.step !== i && <span className="acts">
                {i > 0 && <Button bare aria-label={`Leave out step ${i + 1}: ${step.text}`} onPress={() => done(null, i, false)}>Leave out</Button>}
                <Button bare aria-label={`Add a step behind step ${i + 1}`} onPress={() => setAt({ step: i, behind: true })}>Add behind</Button>
              </span>}
              {at?.step === i && at.behind && <StepField label="New step" text="" onDone={(written) => done(written, i, true)} onLeave={() => setAt(null)} />}
            </div></td>
            <td className="left" title={step.atLeast ? "At least so many: blocks in which a later step can find nothing were passed over" : undefined}>{step.atLeast ? "≥ " : ""}{whole(step.left)}</td>
            <td className="note">
              {step.scope && "from the scope at the left"}
              {shown.filter((note) => note.step === i || (i === steps.length - 1 && note.step > i)).map((note) => (
                <div key={note.text}>{note.text} {note.cure && <Button bare onPress={() => onCure(note)}>{note.cure}</Button>}</div>
              ))}
              {gaps.some((note) => note.step === i) && <div>{gaps.filter((note) => note.step === i).length} gaps, nothing was received then; the rise in them is not spread</div>}
            </td>
          </tr>
        ))}
      </tbody>
    </Grid>
  );
}
