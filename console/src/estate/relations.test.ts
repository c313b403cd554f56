import { expect, it } from 'vitest';
import { goesOutWith, reach, type Edge } from './relations';

const edge = (from: string, relation: Edge['relation'], to: string, optional = false): Edge => ({ from, relation, to, optional });
const edges = [
  edge('app', 'depends-on', 'db'),
  edge('report', 'depends-on', 'db', true),
  edge('db', 'stands-on', 'os'),
  edge('db', 'peer', 'db2'),
  edge('portal', 'depends-on', 'report'),
];

it('follows relations as far as they go, peers not', () => {
  expect([...reach(edges, 'os', 'up')].toSorted()).toEqual(['app', 'db', 'portal', 'report']);
  expect([...reach(edges, 'app', 'down')].toSorted()).toEqual(['db', 'os']);
});

it('takes out what needs it, and leaves what serves on without it', () => {
  expect([...goesOutWith(edges, 'os')].toSorted()).toEqual(['app', 'db']);
  expect([...goesOutWith(edges, 'report')]).toEqual(['portal']);
});
