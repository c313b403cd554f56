import { expect, it } from 'vitest';
import type { Block, Lane, Run } from '../shared/shapes';
import { doing, field, standing } from './members';

const lane = (...status: string[]) => ({ subject: 'a/b', steps: status.map((s, i) => ({ id: String(i), status: s })) }) as unknown as Lane;

it('tells how a member stands by its steps', () => {
  expect(standing(lane('done', 'done'))).toBe('done');
  expect(standing(lane('done', 'failed', 'pending'))).toBe('failed');
  expect(standing(lane('done', 'pending'))).toBe('working');
  expect(standing(lane('pending'))).toBe('ahead');
  const signed = lane('done', 'working');
  Object.assign(signed.steps[1] ?? {}, { person: true });
  expect(standing(signed)).toBe('person');
  expect(doing(lane('done', 'working', 'pending'))?.id).toBe('1');
});

it('draws waves of any number by counts, the part at work by its members', () => {
  const block = (number: number, move: number, status: string, members: number, lanes: Lane[] = []) =>
    ({ number, move, phase: 'roll', wave: number, title: String(number), status, members, lanes }) as unknown as Block;
  const run = {
    blocks: [block(1, 1, 'done', 4000), block(2, 1, 'working', 3, [lane('done'), lane('failed')]), block(3, 2, 'ahead', 5)],
  } as unknown as Run;
  expect(field(run).map((m) => m.waves.map((w) => w.marks))).toEqual([
    [
      [['done', 4000]],
      [
        ['done', 1],
        ['working', 1],
        ['failed', 1],
      ],
    ],
    [[['ahead', 5]]],
  ]);
});
