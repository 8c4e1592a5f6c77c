import type { Schemas } from "../api/client";

export type Destination = Schemas["Destination"];

/** Signals that go to a destination; none named means all three. */
export const signalsOf = (destination: Destination): string[] => destination.signals ?? ["metrics", "logs", "traces"];

/** What is wrong with a destination, or null; the server checks the same again. */
export function destinationMistake(destination: Destination, others: string[]): string | null {
  if (!/^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$/.test(destination.name)) return "A name has small letters, digits and '-', up to 40.";
  if (others.includes(destination.name)) return `Another destination is called ${destination.name}.`;
  try {
    const url = new URL(destination.url);
    if (!/^https?:$/.test(url.protocol) || url.username || url.search) return "An address such as https://store.example:4318 is expected.";
  } catch {
    return "An address such as https://store.example:4318 is expected.";
  }
  return signalsOf(destination).length === 0 ? "Nothing is sent there. Choose a signal." : null;
}
