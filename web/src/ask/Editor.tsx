import { autocompletion, completionKeymap, startCompletion, type CompletionContext, type CompletionResult } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { EditorState, Prec, StateEffect, StateField } from "@codemirror/state";
import { Decoration, EditorView, keymap, placeholder, type DecorationSet } from "@codemirror/view";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { placeAt } from "./complete";

export type EnquiryError = { line: number; column: number; word: string; message: string; suggestion: string | null };

const Frame = styled.div`
  .cm-editor { font-size: 13px; background: transparent; color: ${({ theme }) => theme.ink}; }
  .cm-editor.cm-focused { outline: 2px solid ${({ theme }) => theme.act}; outline-offset: -2px; border-radius: ${({ theme }) => theme.corner}; }
  .cm-scroller { font-family: ${({ theme }) => theme.mono}; line-height: 1.6; min-height: 86px; }
  .cm-content { padding: 10px 4px; caret-color: ${({ theme }) => theme.ink}; }
  .cm-cursor { border-left-color: ${({ theme }) => theme.ink}; }
  .cm-placeholder { color: ${({ theme }) => theme.ink2}; }
  .cm-selectionBackground, .cm-editor.cm-focused .cm-selectionBackground { background: ${({ theme }) => theme.sunk} !important; }
  .wrong { text-decoration: underline wavy ${({ theme }) => theme.critical}; text-underline-offset: 4px; }
  .cm-tooltip { background: ${({ theme }) => theme.sheet}; color: ${({ theme }) => theme.ink}; border: 1px solid ${({ theme }) => theme.ink2}; }
  .cm-tooltip-autocomplete ul li { font: 12px/1.7 ${({ theme }) => theme.mono}; padding: 0 8px; }
  .cm-tooltip-autocomplete ul li[aria-selected] { background: ${({ theme }) => theme.act}; color: ${({ theme }) => theme.onAct}; }
  .cm-completionDetail { font-style: normal; opacity: 0.8; margin-left: 14px; }
`;

const setError = StateEffect.define<EnquiryError | null>();
const errorMark = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(marks, transaction) {
    let next = transaction.docChanged ? Decoration.none : marks;
    for (const effect of transaction.effects)
      if (effect.is(setError)) {
        const error = effect.value;
        if (!error || error.line > transaction.state.doc.lines) next = Decoration.none;
        else {
          const line = transaction.state.doc.line(error.line);
          const from = Math.min(line.from + error.column - 1, Math.max(line.from, line.to - 1));
          const to = Math.min(Math.max(from + 1, from + error.word.length), line.to);
          next = to > from ? Decoration.set([Decoration.mark({ class: "wrong" }).range(from, to)]) : Decoration.none;
        }
      }
    return next;
  },
  provide: (field) => EditorView.decorations.from(field),
});

/** The enquiry as text, with completion of live names and values, and a mark under a wrong word. */
export function Editor({ text, onChange, onAsk, onLeave, error, cluster }: { text: string; onChange: (text: string) => void; onAsk: (text: string) => void; onLeave?: () => void; error: EnquiryError | null; cluster: string }) {
  const box = useRef<HTMLDivElement>(null);
  const editor = useRef<EditorView | null>(null);
  const queries = useQueryClient();
  const acts = useRef({ onChange, onAsk, onLeave });
  acts.current = { onChange, onAsk, onLeave };
  // What was typed and not yet given back: a text that comes back late must not undo what was typed since.
  const said = useRef<string[]>([]);

  useEffect(() => {
    const metrics = () => queries.fetchQuery({ queryKey: ["metrics", cluster], staleTime: 30_000, queryFn: () => got(api.GET("/api/ask/metrics", { params: { query: { cluster } } })) });
    const rowFields = (kind: string) => queries.fetchQuery({ queryKey: ["row-fields", cluster, kind], staleTime: 60_000, queryFn: () => got(api.GET("/api/ask/row-fields", { params: { query: { kind, cluster, from: new Date(Date.now() - 900_000).toISOString(), to: new Date().toISOString() } } })) });
    const fields = async (metric: string) => ((await words()).rows.includes(metric) ? rowFields(metric) : queries.fetchQuery({ queryKey: ["fields", cluster, metric], staleTime: 30_000, queryFn: () => got(api.GET("/api/ask/fields", { params: { query: { cluster, metric } } })) }));
    const words = () => queries.fetchQuery({ queryKey: ["words"], staleTime: Infinity, queryFn: () => got(api.GET("/api/ask/words")) as Promise<{ steps: string[]; comparisons: string[]; functions: string[]; sources: string[]; rows: string[] }> });
    const complete = async (context: CompletionContext): Promise<CompletionResult | null> => {
      const place = placeAt(context.state.doc.toString(), context.pos);
      if (!place.word && !context.explicit && place.expecting !== "field" && place.expecting !== "value") return null;
      try {
        switch (place.expecting) {
          case "source": return { from: place.from, options: [...(await words()).sources.map((label) => ({ label, detail: label === "arrivals" ? "1 on time, 0 not" : "rows" })), ...(await metrics()).map((metric: Schemas["MetricView"]) => ({ label: metric.name, detail: `${metric.kind}, ${metric.unit || "no unit"}, ${metric.series} series` }))], validFor: /^[\w.]*$/ };
          case "step": return { from: place.from, options: (await words()).steps.map((word) => ({ label: word })), validFor: /^\w*$/ };
          case "function": return { from: place.from, options: (await words()).functions.map((word) => ({ label: word })), validFor: /^[\w.]*$/ };
          case "word": return { from: place.from, options: (place.words ?? []).map((label) => ({ label })), validFor: /^\w*$/ };
          case "field": return { from: place.from, options: (await fields(place.metric)).map((field) => ({ label: field.name, detail: field.count === 0 ? "" : field.count > 100 ? "many values" : `${field.count} to choose from` })), validFor: /^[\w.]*$/ };
          case "value": return { from: place.from, options: ((await fields(place.metric)).find((field) => field.name === place.field)?.values ?? []).map((value) => ({ label: `"${value}"` })), validFor: /^"?[^"]*$/ };
        }
      } catch {
        return null;
      }
    };
    const view = new EditorView({
      parent: box.current!,
      state: EditorState.create({
        doc: text,
        extensions: [
          history(), errorMark, EditorView.lineWrapping, placeholder("logs, spans, flows, events, alarms, arrivals or a metric, then steps joined by ->"),
          EditorView.contentAttributes.of({ "aria-label": "Enquiry", spellcheck: "false" }),
          autocompletion({ override: [complete], icons: false, activateOnTyping: true }),
          Prec.highest(keymap.of([{ key: "Mod-Enter", run: (own) => { acts.current.onAsk(own.state.doc.toString()); return true; } }, { key: "Ctrl-Space", run: startCompletion }])),
          keymap.of([...completionKeymap, { key: "Escape", run: () => { acts.current.onLeave?.(); return true; } }, ...historyKeymap, ...defaultKeymap]),
          EditorView.updateListener.of((update) => {
            if (!update.docChanged) return;
            said.current.push(update.state.doc.toString());
            acts.current.onChange(update.state.doc.toString());
          }),
        ],
      }),
    });
    editor.current = view;
    view.focus();
    view.dispatch({ selection: { anchor: view.state.doc.length } });
    return () => view.destroy();
  }, [cluster, queries]);

  useEffect(() => {
    const view = editor.current;
    const echo = said.current.lastIndexOf(text);
    if (echo >= 0) {
      said.current = said.current.slice(echo + 1);
      return;
    }
    if (view && text !== view.state.doc.toString()) view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } });
    said.current = [];
  }, [text]);
  useEffect(() => editor.current?.dispatch({ effects: setError.of(error) }), [error]);
  return <Frame ref={box} />;
}
