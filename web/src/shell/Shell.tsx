import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Outlet, useLocation, useNavigate } from "react-router";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Trouble } from "../parts/basics";
import { Choose, TextInput } from "../parts/fields";
import { Dialog } from "../parts/overlays";
import { clock, day } from "../parts/time";
import { Header, stations } from "./Header";
import { ScopeTree, useClusters } from "./ScopeTree";
import { shift } from "./strip";
import { TimeStrip } from "./TimeStrip";
import { useLive } from "./live";
import { NowContext, useNow, useNowClock, useView, useWindow } from "./view";

const Frame = styled.div<{ $folded: boolean }>`
  display: grid;
  grid-template: "head head" auto "scope main" 1fr "strip strip" auto / ${({ $folded }) => ($folded ? "0" : "216px")} minmax(0, 1fr);
  height: 100vh;
  nav[aria-label="Scope"] { ${({ $folded }) => ($folded ? "display: none;" : "")} }
`;
const Main = styled.main`
  grid-area: main;
  overflow: auto;
  padding: 14px 20px 12px;
  display: flex;
  flex-direction: column;
  min-width: 0;
`;
const Banner = styled.div`
  margin-bottom: 10px;
  padding: 6px 12px;
  border-left: 3px solid ${({ theme }) => theme.warning};
  background: ${({ theme }) => theme.sheet};
  display: flex;
  gap: 12px;
  align-items: center;
  progress { accent-color: ${({ theme }) => theme.act}; width: 160px; }
`;

export type ThemeChoice = "system" | "light" | "dark";

export function Shell({ session, theme, setTheme }: { session: Schemas["SessionView"]; theme: ThemeChoice; setTheme: (theme: ThemeChoice) => void }) {
  const clock = useNowClock();
  useLive();
  return <NowContext.Provider value={clock}><Inside session={session} theme={theme} setTheme={setTheme} /></NowContext.Provider>;
}

/** The chosen cluster, or the first one there is. */
export function useCluster(): string {
  const [view] = useView();
  const clusters = useClusters();
  return view.cluster || clusters.data?.[0]?.name || "";
}

function Inside({ session, theme, setTheme }: { session: Schemas["SessionView"]; theme: ThemeChoice; setTheme: (theme: ThemeChoice) => void }) {
  const cluster = useCluster();
  const [, setView] = useView();
  const window = useWindow();
  const { now, tick } = useNow();
  const navigate = useNavigate();
  const location = useLocation();
  const [folded, setFolded] = useState(() => globalThis.innerWidth < 1100);
  const [typing, setTyping] = useState(false);
  const [keys, setKeys] = useState(false);
  const [person, setPerson] = useState(false);
  const [single, setSingle] = useState(() => localStorage.getItem("skevin.keys") !== "off");
  const view = useQuery({ queryKey: ["stations", cluster], refetchInterval: 10_000, placeholderData: keepPreviousData, queryFn: () => got(api.GET("/api/stations", { params: { query: { cluster } } })) });

  // One listener for the life of the page; what a key does is always that of the newest render.
  const pressed = useRef<(event: KeyboardEvent) => void>(() => {});
  pressed.current = (event: KeyboardEvent) => {
    const target = event.target as HTMLElement;
    if (!single || event.ctrlKey || event.metaKey || event.altKey || target.closest("input, textarea, [contenteditable], [role=dialog], [role=listbox]")) return;
    const act: Record<string, () => void> = {
      "?": () => setKeys(true),
      "/": () => { if (location.pathname !== "/ask") navigate({ pathname: "/ask", search: location.search }); setTimeout(() => { const found = document.querySelector<HTMLElement>(".cm-content, [data-enquiry]"); found?.focus(); if (found?.matches("[data-enquiry]")) found.click(); }, 80); },
      s: () => { setFolded(false); setTimeout(() => document.querySelector<HTMLElement>('nav[aria-label="Scope"] button')?.focus(), 50); },
      t: () => setTyping(true),
      n: () => { tick(); setView({ last: (window.to - window.from) / 1000, from: null, to: null }); },
      ",": () => { const moved = shift(window, -0.5, now); setView({ last: null, ...moved }); },
      ".": () => { if (window.follows) return; const moved = shift(window, 0.5, now); if (now - moved.to < 5000) setView({ last: (moved.to - moved.from) / 1000, from: null, to: null }); else setView({ last: null, ...moved }); },
    };
    const station = stations[Number(event.key) - 1];
    const does = station ? () => navigate({ pathname: station.path, search: location.search }) : act[event.key];
    if (does) { event.preventDefault(); does(); }
  };
  useEffect(() => {
    const press = (event: KeyboardEvent) => pressed.current(event);
    document.addEventListener("keydown", press);
    return () => document.removeEventListener("keydown", press);
  }, []);

  return (
    <Frame $folded={folded}>
      <Header view={view.data} right={<>
        <Button bare onPress={() => setFolded(!folded)} aria-pressed={folded}>{folded ? "Scope" : "Fold"}</Button>
        <Button bare onPress={() => setPerson(true)}>{session.name}</Button>
        <Button bare aria-label="List of keys" onPress={() => setKeys(true)}>?</Button>
      </>} />
      <ScopeTree cluster={cluster} />
      <Main>
        <SeenBy session={session} />
        {session.demo && <CatchingUp />}
        {view.error ? <Trouble error={view.error} /> : null}
        <Outlet />
      </Main>
      <TimeStrip cluster={cluster} typing={typing} setTyping={setTyping} />
      {keys && <Keys single={single} setSingle={(on) => { setSingle(on); localStorage.setItem("skevin.keys", on ? "on" : "off"); }} close={() => setKeys(false)} />}
      {person && <PersonDialog session={session} theme={theme} setTheme={setTheme} close={() => setPerson(false)} />}
    </Frame>
  );
}

/** While the demo's history is being made, says how far it has come. */
function CatchingUp() {
  const practice = useQuery({ queryKey: ["practice-clock"], queryFn: () => got(api.GET("/api/practice/clock")), refetchInterval: (query) => (query.state.data?.catchingUp === false && !query.state.data.past ? false : 2000), retry: false });
  if (practice.data?.past) {
    const [from, to, at] = [Date.parse(practice.data.past.from), Date.parse(practice.data.past.to), Date.parse(practice.data.past.now)];
    return <Banner role="status">Coarser days of the demo's history are being made in the background: {day(from)} to {day(at)} of {day(to)}. <progress max={to - from} value={at - from} aria-label="Days made" /></Banner>;
  }
  if (!practice.data?.catchingUp) return null;
  const [begun, at, now] = [Date.parse(practice.data.begun), Date.parse(practice.data.now), Date.now()];
  return <Banner role="status">The demo's history is being made: it has come from {clock(begun)} to {clock(at)} of {clock(now)}. <progress max={now - begun} value={at - begun} aria-label="History made" /></Banner>;
}

function Keys({ single, setSingle, close }: { single: boolean; setSingle: (on: boolean) => void; close: () => void }) {
  const list: [string, string][] = [["1 – 6", "the six stations"], ["/", "the enquiry"], ["s", "scope"], ["t", "type a time or a length"], [", and .", "move the window back and forth"], ["n", "now"], ["?", "this list"]];
  return (
    <Dialog title="Keys" width={420} onClose={close} actions={<Button onPress={() => setSingle(!single)}>{single ? "Switch single keys off" : "Switch single keys on"}</Button>}>
      <table><tbody>{list.map(([key, does]) => <tr key={key}><td style={{ width: 90 }}><code>{key}</code></td><td>{does}</td></tr>)}</tbody></table>
      {!single && <p>Single keys are off.</p>}
    </Dialog>
  );
}

/** While a keeper looks with another's eyes, says so on every page. */
function SeenBy({ session }: { session: Schemas["SessionView"] }) {
  if (!session.seenByKeeper) return null;
  return <Banner role="status">You see what {session.name} sees; nothing can be changed. <Button onPress={async () => { await api.DELETE("/api/session/as"); globalThis.location.assign("/people"); }}>Be yourself again</Button></Banner>;
}

function PersonDialog({ session, theme, setTheme, close }: { session: Schemas["SessionView"]; theme: ThemeChoice; setTheme: (theme: ThemeChoice) => void; close: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [current, setCurrent] = useState("");
  const [fresh, setFresh] = useState("");
  const [said, setSaid] = useState<unknown>(null);
  return (
    <Dialog title={session.name} width={420} onClose={close} actions={<Button main onPress={async () => { await api.DELETE("/api/session"); queries.clear(); globalThis.location.assign("/"); }}>Sign out</Button>}>
      <div>{session.email}</div>
      <div>Roles: {session.roles.join(", ") || "none"}</div>
      <div>Sees: {session.clusters?.join(", ") ?? "all clusters"}, {session.namespaces?.join(", ") ?? "all namespaces"}</div>
      {session.roles.includes("keeper") && <div><Button onPress={() => { close(); navigate("/people"); }}>People and audit log</Button></div>}
      {!session.seenByKeeper && <details>
        <summary>Change the password</summary>
        <div style={{ display: "grid", gap: 8, paddingTop: 8 }}>
          <TextInput label="Present password" type="password" value={current} onChange={setCurrent} />
          <TextInput label="New password" type="password" value={fresh} onChange={setFresh} help="At least ten characters." />
          <div><Button isDisabled={!current || fresh.length < 10} onPress={async () => { try { await got(api.POST("/api/session/password", { body: { current, new: fresh } })); setSaid("changed"); setCurrent(""); setFresh(""); } catch (wrong) { setSaid(wrong); } }}>Change it</Button></div>
          {said === "changed" ? <div role="status">The password is changed.</div> : said ? <Trouble error={said} /> : null}
        </div>
      </details>}
      <Choose label="Appearance" value={theme} onChange={setTheme} options={[{ id: "system", text: "like the system" }, { id: "light", text: "light" }, { id: "dark", text: "dark" }]} />
    </Dialog>
  );
}
