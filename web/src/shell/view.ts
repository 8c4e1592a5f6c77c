import { createContext, useCallback, useContext, useEffect, useMemo, useState } from "react";
import { useSearchParams } from "react-router";

/** What the address says: scope and window. It applies to every station and can be sent as a link. */
export interface View {
  cluster: string;
  namespace: string;
  workload: string;
  /** Seconds before now; null where the window is fixed. */
  last: number | null;
  from: number | null;
  to: number | null;
}

export const defaultLast = 3600;

export function readView(search: URLSearchParams): View {
  const number = (name: string) => { const value = Number(search.get(name)); return search.get(name) && Number.isFinite(value) && value > 0 ? value : null; };
  const [from, to] = [number("from"), number("to")];
  const fixed = from !== null && to !== null && to > from;
  return { cluster: search.get("cluster") ?? "", namespace: search.get("namespace") ?? "", workload: search.get("workload") ?? "", last: fixed ? null : (number("last") ?? defaultLast), from: fixed ? from : null, to: fixed ? to : null };
}

export function writeView(search: URLSearchParams, change: Partial<View>): URLSearchParams {
  const next = new URLSearchParams(search);
  for (const [name, value] of Object.entries(change)) {
    if (value === null || value === "" || value === undefined) next.delete(name);
    else next.set(name, String(typeof value === "number" ? Math.round(value) : value));
  }
  return next;
}

export function useView(): [View, (change: Partial<View>, replace?: boolean) => void, URLSearchParams] {
  const [search, setSearch] = useSearchParams();
  const set = useCallback((change: Partial<View>, replace = false) => setSearch((before) => writeView(before, change), { replace }), [setSearch]);
  return [useMemo(() => readView(search), [search]), set, search];
}

/** The clock of the page: moves with the chosen rhythm while the window follows now. */
export const NowContext = createContext<{ now: number; rhythm: number; setRhythm: (seconds: number) => void; tick: () => void }>({ now: Date.now(), rhythm: 15, setRhythm: () => {}, tick: () => {} });
export const useNow = () => useContext(NowContext);

export function useNowClock() {
  const [now, setNow] = useState(() => Date.now());
  const [rhythm, setRhythm] = useState(15);
  useEffect(() => {
    const timer = setInterval(() => { if (document.visibilityState === "visible") setNow(Date.now()); }, rhythm * 1000);
    return () => clearInterval(timer);
  }, [rhythm]);
  const tick = useCallback(() => setNow(Date.now()), []);
  return useMemo(() => ({ now, rhythm, setRhythm, tick }), [now, rhythm, tick]);
}

/** What was read last is still on its way: a slot is shown once all agents have had the time to send it. */
const settle = 4000;

/** The window in epoch milliseconds. */
export function useWindow(): { from: number; to: number; follows: boolean } {
  const [view] = useView();
  const { now } = useNow();
  return useMemo(() => (view.last === null ? { from: view.from!, to: view.to!, follows: false } : { from: now - settle - view.last * 1000, to: now - settle, follows: true }), [view, now]);
}
