import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

/** Which queries are stale when the server says that something changed. */
const stale: Record<string, string[]> = {
  inventory: ["clusters", "inventory", "collection"],
  arrivals: ["arrivals"],
  collection: ["collection", "stations", "timeline"],
  alarms: ["alarms", "rules", "messages", "stations", "timeline"],
};

/** One stream of events from the server refreshes what it names; at most once in two seconds a kind. */
export function useLive() {
  const queries = useQueryClient();
  useEffect(() => {
    const source = new EventSource("/api/live");
    const waiting = new Map<string, ReturnType<typeof setTimeout>>();
    for (const kind of Object.keys(stale))
      source.addEventListener(kind, () => {
        if (waiting.has(kind)) return;
        waiting.set(kind, setTimeout(() => {
          waiting.delete(kind);
          for (const key of stale[kind]!) void queries.invalidateQueries({ queryKey: [key] });
        }, kind === "alarms" || kind === "collection" ? 300 : 2000));
      });
    return () => { source.close(); waiting.forEach(clearTimeout); };
  }, [queries]);
}
