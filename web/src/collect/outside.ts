export interface OutsideName { network: string; name: string }

/** Lines of "network name"; what cannot be read is named by its line. The server checks the networks in full. */
export function readNames(text: string): { names: OutsideName[]; mistakes: string[] } {
  const names: OutsideName[] = [];
  const mistakes: string[] = [];
  text.split("\n").forEach((line, i) => {
    const trimmed = line.trim();
    if (!trimmed) return;
    const match = /^([0-9a-fA-F:.]+\/\d{1,3})\s+(\S.*)$/.exec(trimmed);
    if (match) names.push({ network: match[1]!, name: match[2]! });
    else mistakes.push(`Line ${i + 1}: a network such as 203.0.113.0/24, a blank and a name are expected.`);
  });
  return { names, mistakes };
}

export const writeNames = (names: OutsideName[]) => names.map(({ network, name }) => `${network} ${name}`).join("\n");
