import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import styled from "styled-components";
import { api, got, Problem, type Schemas } from "../api/client";
import { Button, Card, Empty, Row, Title, Trouble, Waiting } from "../parts/basics";
import { Choose, TextInput } from "../parts/fields";
import { Menu } from "../parts/overlays";
import { clock, exact, ticks } from "../parts/time";
import { useCluster } from "../shell/Shell";
import { useView, useWindow } from "../shell/view";
import { againsts } from "./against";
import { Block } from "./Block";
import { ImportDialog, RemoveDialog, VersionsDialog } from "./SheetDialogs";
import { usePageTurning } from "./pageTurning";
import { StripChart } from "./StripChart";
import { StripEditor } from "./StripEditor";
import { ChoiceBar } from "./ChoiceBar";
import { choicesOf, choiceWords, readChosen, tidy, writeChosen, type SheetChoice } from "./choices";
import { begun, done, emptyStrip, isBlock, moved, redone, rowsOf, undone, type History, type Sheet as Whole, type Strip } from "./sheets";

const Sheet = styled(Card)`flex: none; > div + div { border-top: 1px solid ${({ theme }) => theme.rule}; }`;
const ClockRow = styled.div`
  position: sticky;
  @media print { position: static; }
  bottom: -12px;
  z-index: 2;
  display: grid;
  grid-template-columns: 146px minmax(0, 1fr) 232px;
  margin: 0 1px;
  background: ${({ theme }) => theme.sheet};
  border-top: 1px solid ${({ theme }) => theme.rule};
  color: ${({ theme }) => theme.ink2};
  > span { padding: 4px 12px; white-space: nowrap; font-size: 12px; }
  > span:last-child { display: grid; grid-template-columns: 1fr 50px 50px; gap: 6px; text-align: right; font-size: 12px; }
  svg { display: block; }
  text { font: 11px ${({ theme }) => theme.mono}; fill: ${({ theme }) => theme.ink2}; }
`;
const Blocks = styled.div`display: grid;`;
const Handle = styled.div`
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 3px 12px;
  background: ${({ theme }) => theme.sunk};
  cursor: grab;
  b { flex: 1; min-width: 0; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  &[data-over="true"] { box-shadow: inset 0 3px 0 ${({ theme }) => theme.act}; }
`;
const Fields = styled(Row)`align-items: flex-start; gap: 12px; margin-bottom: 12px; > div { flex: 1; }`;
const Beside = styled.div`display: flex; gap: 12px; align-items: flex-start; > section { flex: 1; min-width: 0; } > aside { position: sticky; top: 0; max-height: calc(100vh - 230px); }`;

interface Draft { title: string; about: string; strips: Strip[]; choices: SheetChoice[] }
const draftOf = (sheet: Pick<Whole, "title" | "about" | "strips" | "choices">): Draft => ({ title: sheet.title, about: sheet.about, strips: sheet.strips, choices: sheet.choices ?? [] });
const nothing: Draft = { title: "", about: "", strips: [], choices: [] };
// A draft stays while the page is open, also where one looks at another station in between.
const drafts = new Map<string, History<Draft>>();

export function DashboardsStation() {
  const { id } = useParams();
  const sheets = useQuery({ queryKey: ["sheets"], queryFn: () => got(api.GET("/api/sheets")) });
  if (sheets.error) return <Trouble error={sheets.error} />;
  if (!sheets.data) return <Waiting what="Fetching the sheets" />;
  const chosen = id ?? sheets.data[0]?.id ?? "";
  return <SheetPage key={chosen} chosen={chosen} sheets={sheets.data} />;
}

function SheetPage({ chosen, sheets }: { chosen: string; sheets: Schemas["SheetSummary"][] }) {
  const isNew = chosen === "new";
  const cluster = useCluster();
  const [view, , search] = useView();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [explain, setExplain] = useState(false);
  const [params, setParams] = useSearchParams();
  const against = params.get("against") ?? "";
  usePageTurning();
  const [dialog, setDialog] = useState<"import" | "versions" | "remove" | null>(null);
  const [open, setOpen] = useState<number | "new" | null>(null);
  const [dragged, setDragged] = useState<number | null>(null);
  const [over, setOver] = useState<number | null>(null);
  const sheet = useQuery({ queryKey: ["sheet", chosen], enabled: !!chosen && !isNew, queryFn: () => got(api.GET("/api/sheets/{id}", { params: { path: { id: chosen } } })) });
  const [history, keepHistory] = useState<History<Draft> | null>(() => drafts.get(chosen) ?? (isNew ? begun(nothing) : null));
  const setHistory = (next: History<Draft> | null | ((before: History<Draft> | null) => History<Draft> | null)) => keepHistory((before) => {
    const now = typeof next === "function" ? next(before) : next;
    if (now) drafts.set(chosen, now); else drafts.delete(chosen);
    return now;
  });
  const change = (next: Draft) => setHistory((before) => before && done(before, next));
  const keep = useMutation({
    mutationFn: async (copy: boolean) => {
      const now = { ...history!.now, choices: tidy(history!.now.choices) };
      const current = sheet.data;
      const own = !copy && !isNew && current && current.version > 0;
      return own ? got(api.PUT("/api/sheets/{id}", { params: { path: { id: chosen } }, body: { ...now, version: current.version } })) : got(api.POST("/api/sheets", { body: { ...now, version: 0 } }));
    },
    onSuccess: (kept) => { setHistory(null); queries.setQueryData(["sheet", kept.id], kept); void queries.invalidateQueries({ queryKey: ["sheets"] }); if (kept.id !== chosen) navigate({ pathname: `/dashboards/${kept.id}`, search: search.toString() }); },
  });
  useEffect(() => {
    if (!history) return;
    const keys = (event: KeyboardEvent) => {
      if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== "z" || (event.target as HTMLElement).closest("input, textarea")) return;
      event.preventDefault();
      setHistory((before) => before && (event.shiftKey ? redone(before) : undone(before)));
    };
    const leaving = (event: BeforeUnloadEvent) => { if (history.past.length > 0) event.preventDefault(); };
    globalThis.addEventListener("keydown", keys);
    globalThis.addEventListener("beforeunload", leaving);
    return () => { globalThis.removeEventListener("keydown", keys); globalThis.removeEventListener("beforeunload", leaving); };
  }, [history]);
  const window = useWindow();
  const timeline = useQuery({
    queryKey: ["timeline", cluster, "marks", Math.round(window.from / 60_000)], enabled: !!cluster, placeholderData: keepPreviousData,
    queryFn: () => got(api.GET("/api/timeline", { params: { query: { cluster, from: new Date(window.from).toISOString(), slotMinutes: Math.max(1, Math.ceil((window.to - window.from) / 60_000)), slots: 1 } } })),
  });
  if (sheet.error) return <Trouble error={sheet.error} />;
  if (!cluster) return <Card><Empty title="No cluster is connected yet">Connect one under Clusters; its sheets are ready made.</Empty></Card>;
  if (!sheet.data && !isNew) return <Waiting what="Fetching the sheet" />;
  const marks = (timeline.data?.marks ?? []).map((mark) => ({ at: Date.parse(mark.at), text: mark.text, kind: mark.kind }));
  const shown: Draft = history?.now ?? draftOf(sheet.data ?? nothing);
  const choices = tidy(shown.choices);
  const chosenValues = readChosen(params, choices);
  const choose = (field: string, values: string[]) => setParams((before) => writeChosen(before, field, values), { replace: true });
  const own = !!sheet.data && sheet.data.version > 0;
  const go = (to: string) => navigate({ pathname: `/dashboards/${to}`, search: search.toString() });
  const takeDraft = (taken: Whole) => { setDialog(null); setHistory((before) => (before ? done(before, draftOf(taken)) : done(begun(draftOf(sheet.data!)), draftOf(taken)))); };
  const move = (from: number, to: number) => change({ ...shown, strips: moved(shown.strips, from, to) });
  const act = (what: string) => {
    if (what === "new") go("new");
    else if (what === "file") { const link = document.createElement("a"); link.href = `/api/sheets/${chosen}/file`; link.download = `${chosen}.yaml`; link.click(); }
    else if (what === "full") void document.documentElement.requestFullscreen();
    else if (what === "print") globalThis.print();
    else setDialog(what as "import");
  };
  const dialogs = <>
    {dialog === "import" && <ImportDialog cluster={cluster} close={() => setDialog(null)} take={(taken) => { drafts.set("new", done(begun(nothing), draftOf(taken))); setDialog(null); if (isNew) setHistory(drafts.get("new")!); else go("new"); }} />}
    {dialog === "versions" && sheet.data && <VersionsDialog sheet={sheet.data} take={takeDraft} close={() => setDialog(null)} />}
    {dialog === "remove" && sheet.data && <RemoveDialog sheet={sheet.data} done={() => { setDialog(null); setHistory(null); go(sheets[0]?.id ?? ""); }} close={() => setDialog(null)} />}
  </>;
  const scope = <>{view.namespace ? `namespace ${view.namespace}` : "all namespaces"} of {cluster}{window.follows ? ", following now" : ""}</>;
  return (
    <>
      {dialogs}
      {history ? <Title about={own ? `a draft, from version ${sheet.data!.version}` : isNew ? "nothing is kept yet" : "a draft; this one ships with Skevin and stays, yours becomes a copy"}
        actions={<>
          <Button isDisabled={history.past.length === 0} onPress={() => setHistory(undone(history))}>Undo</Button>
          <Button isDisabled={history.future.length === 0} onPress={() => setHistory(redone(history))}>Redo</Button>
          <Button onPress={() => setOpen("new")}>Add a strip</Button>
          <Button onPress={() => { setHistory(null); keep.reset(); if (isNew) go(sheets[0]?.id ?? ""); }}>Leave without keeping</Button>
          <Button needs="author" main isDisabled={keep.isPending || !shown.title.trim() || shown.strips.length === 0} onPress={() => keep.mutate(false)}>{own || isNew ? "Keep" : "Keep as a copy"}</Button>
        </>}>{isNew && !shown.title ? "A new sheet" : shown.title}</Title>
        : <Title about={<>{scope}{own ? <span title={sheet.data!.changedAt ? exact(Date.parse(sheet.data!.changedAt)) : ""}>, version {sheet.data!.version} by {sheet.data!.changedBy}</span> : null}</>}
          actions={<>
            <Choose label="sheet" value={chosen} onChange={go} options={sheets.map((one) => ({ id: one.id, text: one.title }))} />
            <Choose label="against" value={against} onChange={(id) => setParams((before) => { if (id) before.set("against", id); else before.delete("against"); return before; }, { replace: true })} options={againsts.map(({ id, text }) => ({ id, text }))} />
            <Button aria-pressed={explain} onPress={() => setExplain(!explain)}>{explain ? "Hide meanings" : "What figures mean"}</Button>
            <Button needs="author" onPress={() => setHistory(begun(draftOf(sheet.data!)))}>Edit</Button>
            <Menu title="More" onAct={act} items={[{ id: "new", text: "New sheet" }, { id: "import", text: "Import a sheet" }, { id: "file", text: "Save as file", about: "YAML" }, ...(own ? [{ id: "versions", text: "Versions" }, { id: "remove", text: "Take out" }] : []), { id: "full", text: "Full screen" }, { id: "print", text: "Print" }]} />
          </>}>{shown.title}</Title>}
      {keep.error ? <><Trouble error={keep.error} />{keep.error instanceof Problem && keep.error.status === 409 && own && <Row style={{ margin: "6px 0" }}><Button onPress={() => keep.mutate(true)}>Keep as a copy</Button></Row>}</> : null}
      <p className="on-paper">{exact(window.from)} to {exact(window.to)}{Object.entries(chosenValues).map(([field, values]) => `, ${field} ${values.join(", ")}`)}</p>
      {choices.length > 0 && <ChoiceBar choices={choices} strips={shown.strips} cluster={cluster} chosen={chosenValues} onChange={choose} />}
      {history && <Fields><TextInput label="Title" value={shown.title} onChange={(title) => change({ ...shown, title })} required /><TextInput label="What it is for" value={shown.about} onChange={(about) => change({ ...shown, about })} /><TextInput label="Choices above it" value={choiceWords(shown.choices)} onChange={(text) => change({ ...shown, choices: choicesOf(text) })} help="Such as node, or level of logs where the first strip has no level." /></Fields>}
      <Beside>
        <Sheet>
          {shown.strips.length === 0 && <Empty title="No strips yet">Add one here, or ask something and put it on this sheet.</Empty>}
          {rowsOf(shown.strips).map((row) => {
            const drawn = isBlock(row[0]!.strip) ? <Blocks style={{ gridTemplateColumns: `repeat(${row.length}, minmax(0, 1fr))` }}>{row.map(({ strip, at }) => <Block key={at} strip={strip} cluster={cluster} explain={explain} chosen={chosenValues} />)}</Blocks>
              : <StripChart strip={row[0]!.strip} cluster={cluster} explain={explain} marks={marks} against={against} chosen={chosenValues} />;
            return <div key={row.map(({ strip, at }) => strip.title + at).join()}>
              {history && row.map(({ strip, at }) => (
                <Handle key={at} role="group" aria-label={`Strip ${at + 1}: ${strip.title}`} draggable data-over={over === at && dragged !== at}
                  onDragStart={(event) => { setDragged(at); event.dataTransfer.effectAllowed = "move"; }} onDragEnd={() => { setDragged(null); setOver(null); }}
                  onDragOver={(event) => { if (dragged !== null) { event.preventDefault(); setOver(at); } }} onDrop={(event) => { event.preventDefault(); if (dragged !== null && dragged !== at) move(dragged, at); setDragged(null); setOver(null); }}>
                  <span aria-hidden="true">⠿</span><b>{strip.title}</b>
                  <Button bare aria-label={`Move ${strip.title} up`} isDisabled={at === 0} onPress={() => move(at, at - 1)}>Up</Button>
                  <Button bare aria-label={`Move ${strip.title} down`} isDisabled={at === shown.strips.length - 1} onPress={() => move(at, at + 1)}>Down</Button>
                  <Button bare aria-label={`Change ${strip.title}`} onPress={() => setOpen(at)}>Change</Button>
                  <Button bare aria-label={`Copy ${strip.title}`} onPress={() => change({ ...shown, strips: [...shown.strips.slice(0, at + 1), { ...strip, title: `${strip.title}, copy` }, ...shown.strips.slice(at + 1)] })}>Copy</Button>
                  <Button bare aria-label={`Take out ${strip.title}`} onPress={() => { setOpen(null); change({ ...shown, strips: shown.strips.filter((_, i) => i !== at) }); }}>Take out</Button>
                </Handle>))}
              {drawn}
            </div>;
          })}
        </Sheet>
        {history && open !== null && <StripEditor key={String(open)} isNew={open === "new"} strip={open === "new" ? emptyStrip : shown.strips[open] ?? emptyStrip} onClose={() => setOpen(null)}
          onKeep={(strip) => { change({ ...shown, strips: open === "new" ? [...shown.strips, strip] : shown.strips.map((one, i) => (i === open ? strip : one)) }); setOpen(null); }} />}
      </Beside>
      {open === null && <ClockRow aria-hidden="true"><span>one clock for every strip</span><Clock window={window} /><span><i /><i>now</i><i>highest</i></span></ClockRow>}
    </>
  );
}

/** Times under the strips, as wide as their charts. */
function Clock({ window }: { window: { from: number; to: number } }) {
  return (
    <svg width="100%" height="24">
      {ticks(window.from, window.to, 7).map((tick) => <svg key={tick} x="62" width="calc(100% - 70px)" overflow="visible"><text x={`${((tick - window.from) / (window.to - window.from)) * 100}%`} y={16} textAnchor="middle">{clock(tick)}</text></svg>)}
    </svg>
  );
}

