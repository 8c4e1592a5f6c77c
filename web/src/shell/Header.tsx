import { NavLink, useLocation } from "react-router";
import styled, { useTheme } from "styled-components";
import type { Schemas } from "../api/client";

export const stations = [
  { path: "/clusters", name: "Clusters" }, { path: "/collect", name: "Collect" }, { path: "/arrivals", name: "Arrivals" },
  { path: "/ask", name: "Ask" }, { path: "/dashboards", name: "Dashboards" }, { path: "/alarms", name: "Alarms" },
];

const Bar = styled.header`
  grid-area: head;
  display: flex;
  height: 64px;
  background: ${({ theme }) => theme.sheet};
  border-bottom: 1px solid ${({ theme }) => theme.ink2};
`;
const Brand = styled.div`
  width: 216px;
  flex: none;
  box-sizing: border-box;
  display: flex;
  align-items: center;
  gap: 10px;
  padding-left: 18px;
  font: 700 19px/1 ${({ theme }) => theme.text};
  @media (max-width: 700px) { width: 48px; padding-left: 10px; span { display: none; } }
`;
const Middle = styled.div`flex: 1; min-width: 0; display: flex; flex-direction: column;`;
const Stations = styled.nav`
  display: grid;
  grid-template-columns: repeat(6, 1fr);
  height: 42px;
  a { display: grid; grid-template-columns: auto 1fr; column-gap: 7px; align-content: start; padding-top: 8px; color: ${({ theme }) => theme.ink2}; text-decoration: none; font-weight: 600; min-width: 0; }
  a i { font: 700 11px/16px ${({ theme }) => theme.text}; width: 16px; height: 16px; text-align: center; border-radius: 3px; background: ${({ theme }) => theme.sunk}; color: ${({ theme }) => theme.ink2}; }
  a small { grid-column: 2; font: 400 12px/1.2 ${({ theme }) => theme.text}; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; font-variant-numeric: tabular-nums; }
  a[aria-current="page"] { color: ${({ theme }) => theme.ink}; }
  a[aria-current="page"] i { background: ${({ theme }) => theme.act}; color: ${({ theme }) => theme.onAct}; }
  a:focus-visible { outline: 2px solid ${({ theme }) => theme.act}; }
  @media (max-width: 700px) { a { grid-template-columns: 1fr; justify-items: center; font-size: 0; } a small { display: none; } a i { font-size: 13px; width: 24px; line-height: 24px; height: 24px; } }
`;
const Right = styled.div`
  flex: none;
  display: flex;
  align-items: center;
  gap: 6px;
  padding: 0 14px;
  @media (max-width: 700px) { padding: 0 4px; gap: 0; }
`;

export const Logo = () => {
  const theme = useTheme();
  return (
    <svg width="30" height="22" viewBox="0 0 30 22" aria-hidden="true" fill="none" strokeWidth="2">
      {[[theme.metrics, 2, 20], [theme.logs, 7, 15], [theme.traces, 15, 7], [theme.flows, 20, 2]].map(([colour, a, b]) => <path key={String(a)} d={`M1 ${a}C10 ${a} 11 11 15 11S20 ${b} 29 ${b}`} stroke={String(colour)} />)}
    </svg>
  );
};

const plural = (count: number, word: string) => `${count} ${word}`;

/** The short figure under each station's name. */
export function figure(station: string, view: Schemas["StationsView"] | undefined): string {
  if (!view) return "";
  switch (station) {
    case "/clusters": return view.clusters === 0 ? "none yet" : view.readyClusters === view.clusters ? plural(view.clusters, "ready") : `${view.readyClusters} of ${view.clusters} ready`;
    case "/collect": return view.signalsCollected === 0 ? "nothing yet" : `${view.signalsCollected} of 4 signals`;
    case "/arrivals": {
      const parts = [view.late > 0 && plural(view.late, "late"), view.partial > 0 && plural(view.partial, "partial"), view.refused > 0 && plural(view.refused, "refused")].filter(Boolean);
      return view.sources === 0 ? "nothing expected" : parts.length > 0 ? parts.join(", ") : `all ${view.sources} on time`;
    }
    case "/ask": return view.sources === 0 ? "" : `${view.signalsCollected} ${view.signalsCollected === 1 ? "signal" : "signals"}`;
    case "/dashboards": return plural(view.sheets, view.sheets === 1 ? "sheet" : "sheets");
    default: return view.raised === 0 ? "quiet" : plural(view.raised, "raised") + (view.acknowledged > 0 ? `, ${view.acknowledged} seen` : "");
  }
}

/** Four thin lines under the stations: solid, dotted, dashed, or broken with a cross where the trouble is. */
function Strands({ strands }: { strands: Schemas["StrandView"][] }) {
  const theme = useTheme();
  const says = strands.map((strand) => `${strand.signal}: ${strand.state === "off" ? "not collected" : strand.state}`).join(", ");
  return (
    <svg width="100%" height="18" role="img" aria-label={`Strands. ${says}`} style={{ display: "block" }}>
      <title>{says}</title>
      {strands.map((strand, i) => {
        const colour = theme[strand.signal as "metrics" | "logs" | "traces" | "flows"];
        const y = 2.5 + i * 4.5;
        if (strand.state === "off") return null;
        const line = (from: string, to: string, dash?: string, opacity = 1) => <line x1={from} x2={to} y1={y} y2={y} stroke={colour} strokeWidth={2} strokeDasharray={dash} opacity={opacity} />;
        if (strand.break === 0) return <g key={strand.signal}>{line("0", "100%", strand.state === "starting" ? "2 4" : undefined)}</g>;
        const start = `${((strand.break - 1) / 6) * 100}%`;
        const end = `${(strand.break / 6) * 100}%`;
        return (
          <g key={strand.signal}>
            {line("0", start)}
            {strand.state === "refused"
              ? <svg x={start} y={y - 4} width={14} height={8} overflow="visible"><path d="M2 1l6 6M8 1l-6 6" stroke={theme.critical} strokeWidth={1.8} /></svg>
              : line(start, end, strand.state === "starting" ? "2 4" : "8 5")}
            {strand.state !== "refused" && line(end, "100%", "8 5", 0.55)}
          </g>
        );
      })}
    </svg>
  );
}

export function Header({ view, right }: { view: Schemas["StationsView"] | undefined; right: React.ReactNode }) {
  const { search } = useLocation();
  const kept = new URLSearchParams(search);
  for (const name of [...kept.keys()]) if (!["cluster", "namespace", "workload", "last", "from", "to"].includes(name)) kept.delete(name);
  return (
    <Bar>
      <Brand><Logo /><span>skevin</span></Brand>
      <Middle>
        <Stations aria-label="Stations">
          {stations.map((station, i) => (
            <NavLink key={station.path} to={{ pathname: station.path, search: kept.toString() }}>
              <i aria-hidden="true">{i + 1}</i>{station.name}<small>{figure(station.path, view)}</small>
            </NavLink>
          ))}
        </Stations>
        <Strands strands={view?.strands ?? []} />
      </Middle>
      <Right>{right}</Right>
    </Bar>
  );
}
