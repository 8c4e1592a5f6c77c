import type { Schemas } from "../api/client";

export type TeamDocument = Schemas["TeamDocument"];
type Step = Schemas["StepDocument"];

/** Steps as lines: "rota" at once, then "15m chief". What cannot be read is named by its line; the server checks the names. */
export function readSteps(text: string): { steps: Step[]; mistake?: string } {
  const steps: Step[] = [];
  const lines = text.split("\n").map((line) => line.trim()).filter(Boolean);
  for (const [i, line] of lines.entries()) {
    const match = /^(?:(\d+(?:\.\d+)?\s*[smhd])\s+)?(\S.*)$/.exec(line)!;
    if (i === 0 && match[1]) return { steps, mistake: "The first line is told at once: write a name alone." };
    if (i > 0 && !match[1]) return { steps, mistake: `Line ${i + 1}: after how long, then whom, for example 15m ${match[2]}.` };
    steps.push({ tell: match[2]!.trim(), after: match[1] ? match[1].replaceAll(" ", "") : null });
  }
  return steps.length === 0 ? { steps, mistake: "Somebody has to be told first." } : { steps };
}

export const writeSteps = (steps: Step[]) => steps.map((step) => (step.after && step.after !== "0" ? `${step.after} ${step.tell}` : step.tell)).join("\n");

/** Names, a line each. */
export const readPeople = (text: string) => text.split("\n").map((line) => line.trim()).filter(Boolean);

/** A step in words. */
export const stepWords = (step: Step) => `${step.after && step.after !== "0" ? `after ${step.after}` : "at once"}: ${step.tell === "rota" ? "whoever is on duty" : step.tell}`;
