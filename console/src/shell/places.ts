/** Something that has a page. */
export interface Place {
  kind: string;
  title: string;
  beside?: string;
  to: string;
  /** The service found it by these words already. */
  sure?: boolean;
}

/** The places that have every word somewhere in them, those that begin with the first word before others. */
export function found(places: Place[], text: string, most: number): Place[] {
  const asked = text.toLowerCase().split(/\s+/).filter(Boolean);
  const has = (p: Place) => {
    const all = `${p.kind} ${p.title} ${p.beside ?? ''}`.toLowerCase();
    return p.sure || asked.every((word) => all.includes(word));
  };
  const begins = (p: Place) => asked[0] !== undefined && p.title.toLowerCase().startsWith(asked[0]);
  const all = places.filter(has);
  return [...all.filter(begins), ...all.filter((p) => !begins(p))].slice(0, most);
}
