/** What somebody may see, in words. */
export function scopeText({ clusters, namespaces }: { clusters?: string[] | null; namespaces?: string[] | null }): string {
  const some = (names: string[] | null | undefined, word: string) => (names ? (names.length === 0 ? `no ${word}` : names.join(", ")) : `all ${word}s`);
  return !clusters && !namespaces ? "everything" : `${some(clusters, "cluster")}; ${some(namespaces, "namespace")}`;
}

/** Names written with commas or blanks between them; nothing written means all of them. */
export const namesOf = (text: string): string[] | null => {
  const names = text.split(/[\s,]+/).filter(Boolean);
  return names.length === 0 ? null : [...new Set(names)];
};
