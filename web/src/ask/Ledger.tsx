import styled from "styled-components";
import type { Schemas } from "../api/client";
import { Button, Quiet } from "../parts/basics";
import { whole } from "../parts/format";

const Grid = styled.table`
  width: 100%;
  border-collapse: collapse;
  table-layout: fixed;
  th { text-align: left; font-weight: 400; color: ${({ theme }) => theme.ink2}; padding: 5px 12px; }
  td { padding: 4px 12px; border-top: 1px solid ${({ theme }) => theme.rule}; vertical-align: top; overflow-wrap: anywhere; }
  .left { width: 92px; text-align: right; font-family: ${({ theme }) => theme.mono}; font-variant-numeric: tabular-nums; }
  th.left { font-family: inherit; }
  .note { width: 42%; color: ${({ theme }) => theme.ink2}; }
  code { font-size: 13px; white-space: pre-wrap; }
  code b { color: ${({ theme }) => theme.act}; font-weight: 700; }
  code q { quotes: none; color: ${({ theme }) => theme.traces}; }
`;

/** A step with its first word and its texts set off. */
function StepText({ text, first }: { text: string; first: boolean }) {
  const [word, ...rest] = text.split(" ");
  const parts = rest.join(" ").split(/("(?:[^"\\]|\\.)*")/);
  return <code>{first ? "  " : <Quiet>→ </Quiet>}<b>{word}</b>{rest.length > 0 ? " " : ""}{parts.map((part, i) => (part.startsWith('"') ? <q key={i}>{part}</q> : part))}</code>;
}

/** The enquiry step by step, with how many series or rows each step left. */
export function Ledger({ steps, notes, onCure }: { steps: Schemas["StepView"][]; notes: Schemas["NoteView"][]; onCure: (note: Schemas["NoteView"]) => void }) {
  const gaps = notes.filter((note) => note.kind === "gap");
  const shown = notes.filter((note) => note.kind !== "gap");
  return (
    <Grid aria-label="Steps">
      <thead><tr><th>Steps</th><th className="left">left</th><th className="note">note</th></tr></thead>
      <tbody>
        {steps.map((step, i) => (
          <tr key={i}>
            <td><StepText text={step.text} first={i === 0} /></td>
            <td className="left">{whole(step.left)}</td>
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
