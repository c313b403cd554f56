import { describe, expect, it } from 'vitest';
import { day } from '../shared/days';
import type { Block, Run } from '../shared/shapes';
import { arrivals, planned } from './TideLine';

const wave = (number: number, done: boolean) =>
  ({
    number,
    move: 1,
    phase: 'roll',
    wave: number,
    title: '',
    status: done ? 'done' : 'ahead',
    expected: 'PT10M',
    settle: 'PT0S',
    componentsOut: [],
    return: { state: 'clean', length: 'PT0S', why: '' },
    members: 1,
    lanes: [],
  }) as Block;
const run = {
  tide: [{ component: 'a', from: '1', to: '2', old: 1, new: 1 }],
  blocks: [wave(1, true), wave(2, false)],
  arrivals: [{ at: `${day(0)}T01:01:00Z`, members: 1 }],
  lastAt: `${day(0)}T01:05:00Z`,
} as unknown as Run;

describe('the tide line', () => {
  it('rises by a member when its lane is done, and not before', () => {
    expect(arrivals(run)).toEqual([{ at: Date.parse(`${day(0)}T01:01:00Z`), share: 0.5 }]);
  });
  it('draws the plan over the span from start to end', () => {
    expect(planned(run, 0, 100)).toEqual([
      { at: 50, share: 0.5 },
      { at: 100, share: 1 },
    ]);
  });
});
