/** The line an error speaks of, or null. */
export function lineOf(error: string): number | null {
  const found = /\bline (\d+)\b/.exec(error);
  return found ? Number(found[1]) : null;
}
