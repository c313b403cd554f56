/** Something that has a page. */
export interface Place {
  kind: string;
  title: string;
  beside?: string;
  to: string;
  /** The service found it by these words already. */
  sure?: boolean;
}

/** The places that have every word somewhere in them: those whose title has all that was written first, then those that begin with its first word. */
export function found(places: Place[], text: string, most: number): Place[] {
  const written = text.trim().toLowerCase();
  const asked = written.split(/\s+/).filter(Boolean);
  const has = (p: Place) => {
    const all = `${p.kind} ${p.title} ${p.beside ?? ''}`.toLowerCase();
    return p.sure || asked.every((word) => all.includes(word));
  };
  const rank = (p: Place) => {
    const title = p.title.toLowerCase();
    return asked.length > 1 && title.includes(written) ? 0 : asked[0] !== undefined && title.startsWith(asked[0]) ? 1 : 2;
  };
  return places
    .filter(has)
    .toSorted((a, b) => rank(a) - rank(b))
    .slice(0, most);
}
