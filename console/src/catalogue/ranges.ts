import type { Matrix, MatrixPlace } from '../shared/shapes';

/** Neighbouring places of one row with one verdict, as one range on the upper ruler. */
export interface Range {
  from: number;
  to: number;
  word: string;
}

export const wordOf = (place: MatrixPlace) => (place.noData ? 'no data' : place.verdict);

/** A row's places as ranges. */
export function rangesOf(row: MatrixPlace[]): Range[] {
  const ranges: Range[] = [];
  row.forEach((place, i) => {
    const last = ranges.at(-1);
    if (last && last.word === wordOf(place)) last.to = i;
    else ranges.push({ from: i, to: i, word: wordOf(place) });
  });
  return ranges;
}

/** The places where pairs of components end by a plan's moves: today's pairs, led to where each of their components goes. */
export function endsOf(matrix: Matrix, moves: { component: string; to: string }[]): Map<string, string[]> {
  const end = new Map(moves.map((m) => [m.component, m.to]));
  const ends = new Map<string, string[]>();
  for (const place of matrix.places)
    for (const pair of place.today) {
      const [one = '', other = ''] = pair.split(' with ');
      if (!end.has(one) && !end.has(other)) continue;
      const key = `${end.get(one) ?? place.this}|${end.get(other) ?? place.at}`;
      ends.set(key, [...(ends.get(key) ?? []), pair]);
    }
  return ends;
}
