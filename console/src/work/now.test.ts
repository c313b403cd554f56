import { expect, it } from 'vitest';
import type { ComponentSummary, Run } from '../shared/shapes';
import { awaited, risks } from './now';

const run = (id: string, more: object) =>
  ({ run: id, label: id, lastAt: '', by: 'Wren', persons: [], signOffs: [], status: 'running', ...more }) as unknown as Run;

it('puts halts before what people do, and held runs last', () => {
  const found = awaited([
    run('a', { persons: [{ step: 's', title: 'look', member: 'm/n' }] }),
    run('b', { status: 'halted', halt: 'checksum differs' }),
    run('c', { status: 'held' }),
    run('d', {
      signOffs: [
        { awaited: true, asked: { id: 'roll', why: 'before the wave' } },
        { awaited: false, asked: { id: 'x' } },
      ],
    }),
  ]);
  expect(found.map((f) => f.what)).toEqual(['Decide: checksum differs', 'look, on m/n', 'Sign-off before the wave', 'Let it go on: c']);
  expect(new Set(found.map((f) => f.key)).size).toBe(found.length);
});

it('says nothing where all is well, and each risk with whom it is about', () => {
  const well = { component: 'a', notRead: 0, owing: 0, support: 'supported' } as ComponentSummary;
  expect(risks([well], [], undefined, [])).toEqual([]);
  const found = risks(
    [
      { ...well, component: 'b', notRead: 2 },
      { ...well, component: 'c', support: 'ended' },
    ],
    [],
    undefined,
    [],
  );
  expect(found.map((r) => [r.what, r.beside])).toEqual([
    ['2 members could not be read', 'b'],
    ['1 component out of support', 'c'],
  ]);
});
