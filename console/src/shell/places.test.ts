import { expect, it } from 'vitest';
import { found } from './places';

it('finds by every word, what begins so first', () => {
  const places = ['Gates north', 'All gates', 'Tickets'].map((title) => ({ kind: 'component', title, to: title }));
  expect(found(places, 'gate', 5).map((p) => p.title)).toEqual(['Gates north', 'All gates']);
  expect(found(places, 'comp all', 5).map((p) => p.title)).toEqual(['All gates']);
  expect(found(places, '', 2)).toHaveLength(2);
  const runs = ['relay-south 3.1 to 3.2', 'South shore: relay to 3.2'].map((title) => ({ kind: 'run', title, to: title }));
  expect(found(runs, 'relay to 3.2', 1).map((p) => p.title)).toEqual(['South shore: relay to 3.2']);
});
