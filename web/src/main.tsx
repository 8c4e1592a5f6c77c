import "@fontsource-variable/atkinson-hyperlegible-next/wght.css";
import "@fontsource-variable/atkinson-hyperlegible-mono/wght.css";
import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { StrictMode, useEffect, useState } from "react";
import { flushSync } from "react-dom";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { createGlobalStyle, ThemeProvider } from "styled-components";
import { AlarmsStation } from "./alarms/AlarmsStation";
import { api, got, Problem } from "./api/client";
import { ArrivalsStation } from "./arrivals/ArrivalsStation";
import { AskStation } from "./ask/AskStation";
import { ClustersStation } from "./clusters/ClustersStation";
import { CollectStation } from "./collect/CollectStation";
import { DashboardsStation } from "./dashboards/DashboardsStation";
import { Empty, Trouble } from "./parts/basics";
import { SessionContext } from "./parts/may";
import { PeoplePage } from "./people/PeoplePage";
import { Shell, type ThemeChoice } from "./shell/Shell";
import { SignIn } from "./shell/SignIn";
import { themes } from "./theme";

const Global = createGlobalStyle`
  :root { color-scheme: ${({ theme }) => theme.name}; }
  body { margin: 0; background: ${({ theme }) => theme.ground}; color: ${({ theme }) => theme.ink}; font: 13px/1.45 ${({ theme }) => theme.text}; }
  a { color: ${({ theme }) => theme.act}; }
  .on-paper { display: none; }
  @page { size: A4 landscape; margin: 8mm; }
  @media print {
    body { background: none; }
    nav, footer, button, #root > div > header, [role="status"], .not-on-paper, main header > *:not(h1):not(span) { display: none !important; }
    .on-paper { display: block; }
    #root > div { display: block; height: auto; }
    main { overflow: visible; padding: 0; }
    main header > span, main header h1 { white-space: normal; }
    section > div, [role="group"] { break-inside: avoid; }
    .uplot, .uplot canvas { max-width: 100%; }
  }
  code, pre { font-family: ${({ theme }) => theme.mono}; }
`;

const queries = new QueryClient({ defaultOptions: { queries: { retry: (count, error) => count < 2 && !(error instanceof Problem && error.status >= 400 && error.status < 500), refetchOnWindowFocus: false } } });

function useThemeChoice(): [ThemeChoice, (choice: ThemeChoice) => void, keyof typeof themes] {
  const [choice, setChoice] = useState<ThemeChoice>(() => (localStorage.getItem("skevin.theme") as ThemeChoice) || "system");
  const media = matchMedia("(prefers-color-scheme: dark)");
  const [dark, setDark] = useState(media.matches);
  // Paper is white: what is printed is drawn in light.
  const [printing, setPrinting] = useState(false);
  useEffect(() => {
    const [begin, end] = [() => flushSync(() => setPrinting(true)), () => setPrinting(false)];
    addEventListener("beforeprint", begin);
    addEventListener("afterprint", end);
    return () => { removeEventListener("beforeprint", begin); removeEventListener("afterprint", end); };
  }, []);
  useEffect(() => {
    const change = () => setDark(media.matches);
    media.addEventListener("change", change);
    return () => media.removeEventListener("change", change);
  }, []);
  return [choice, (next) => { localStorage.setItem("skevin.theme", next); setChoice(next); }, printing ? "light" : choice === "system" ? (dark ? "dark" : "light") : choice];
}

function App() {
  const [choice, setChoice, name] = useThemeChoice();
  return <ThemeProvider theme={themes[name]}><Global /><Pages choice={choice} setChoice={setChoice} /></ThemeProvider>;
}

function Pages({ choice, setChoice }: { choice: ThemeChoice; setChoice: (choice: ThemeChoice) => void }) {
  const session = useQuery({ queryKey: ["session"], queryFn: () => got(api.GET("/api/session")), retry: false });
  if (session.isPending) return null;
  if (session.error) return session.error instanceof Problem && session.error.status === 401 ? <SignIn /> : <div style={{ padding: 40 }}><Trouble error={session.error} /></div>;
  return (
    <SessionContext.Provider value={session.data}><Routes>
      <Route element={<Shell session={session.data} theme={choice} setTheme={setChoice} />}>
        <Route path="/" element={<Navigate to="/clusters" replace />} />
        <Route path="/clusters" element={<ClustersStation />} />
        <Route path="/collect" element={<CollectStation />} />
        <Route path="/arrivals" element={<ArrivalsStation />} />
        <Route path="/ask" element={<AskStation />} />
        <Route path="/dashboards/:id?" element={<DashboardsStation />} />
        <Route path="/alarms" element={<AlarmsStation />} />
        <Route path="/people" element={<PeoplePage session={session.data} />} />
        <Route path="*" element={<Empty title="Nothing is at this address">Choose one of the stations above.</Empty>} />
      </Route>
    </Routes></SessionContext.Provider>
  );
}

createRoot(document.getElementById("root")!).render(<StrictMode><QueryClientProvider client={queries}><BrowserRouter><App /></BrowserRouter></QueryClientProvider></StrictMode>);
