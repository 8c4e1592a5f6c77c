/** Puts a note's cure into the text: a value in place of the one that matched nothing, or a further step. */
export function applyCure(text: string, cure: string): string {
  const comparison = /^([\w.]+) = "(.*)"$/.exec(cure);
  if (comparison) {
    const field = comparison[1]!.replace(/[.]/g, "\\.");
    const there = new RegExp(`(\\b${field}\\s*=\\s*)"[^"]*"`);
    if (there.test(text)) return text.replace(there, (_, before: string) => `${before}"${comparison[2]}"`);
  }
  const words = /^([\w.]+|`[^`]+`) says "(.*)"$/.exec(cure);
  if (words) return text.replace(/(\bsays\s*)"[^"]*"/, (_, before: string) => `${before}"${words[2]}"`);
  const where = /^where namespace = "(.*)"$/.exec(cure);
  if (where && /\bnamespace\s*=\s*"[^"]*"/.test(text)) return text.replace(/(\bnamespace\s*=\s*)"[^"]*"/, (_, before: string) => `${before}"${where[1]}"`);
  return /^(where|rate|rise|sum|mean|highest|lowest|min|max|count)\b/.test(cure) ? `${text.trimEnd()}\n  -> ${cure}` : text;
}
