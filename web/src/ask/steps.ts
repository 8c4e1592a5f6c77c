/**
 * The enquiry with one step written anew, left out (null) or added behind it. The server writes one step a line, so that a step is a line of what it wrote;
 * a step the scope added stands in the account alone.
 */
export function withStep(formatted: string, steps: { scope: boolean }[], index: number, written: string | null, behind = false): string {
  const lines = formatted.split("\n");
  const line = steps.slice(0, index).filter((step) => !step.scope).length;
  const body = written?.trim().replace(/^->\s*/, "") ?? "";
  if (behind) {
    if (body) lines.splice(line + 1, 0, `  -> ${body}`);
  } else if (body) lines[line] = lines[line]?.trimStart().startsWith("->") ? `  -> ${body}` : body;
  else if (lines[line]?.trimStart().startsWith("->")) lines.splice(line, 1);
  return lines.join("\n");
}
