import { describe, expect, it } from 'vitest';
import { day } from '../shared/days';
import type { Path, Plan } from '../shared/shapes';
import { rows, stripOfPath, stripOfPlan } from './model';

const jump = (component: string, from: string, to: string, method = 'rolling') => ({ component, jump: `to-${to}`, from, to, method });
const move = (minutes: number, ...jumps: ReturnType<typeof jump>[]) => ({
  written: '',
  jumps,
  minutes,
  outageMinutes: 0,
  out: [],
  waves: [],
  transitional: [],
  mixedMinutes: 0,
});
const path = {
  moves: [move(10, jump('a', '1', '2')), move(5, jump('b', '1', '2', 'offline')), move(20, jump('a', '2', '3'))],
} as unknown as Path;

describe('the strip of a path', () => {
  it('puts each move after the one before', () => {
    expect(stripOfPath(path).steps.map((s) => [s.component, s.start, s.length])).toEqual([
      ['a', 0, 10],
      ['b', 10, 5],
      ['a', 15, 20],
    ]);
    expect(stripOfPath(path).total).toBe(35);
  });
  it('has a row for each component in the order in which it first moves', () => {
    expect(rows(stripOfPath(path)).map((r) => [r.component, r.steps.length])).toEqual([
      ['a', 2],
      ['b', 1],
    ]);
  });
  it('draws a joint move as one outage of all its jumps', () => {
    const joint = stripOfPath({ moves: [move(8, jump('a', '1', '2', 'offline'), jump('b', '1', '2', 'offline'))] } as unknown as Path);
    expect(joint.steps.map((s) => s.method)).toEqual(['in one outage', 'in one outage']);
    expect(joint.total).toBe(8);
  });
});

describe('the strip of a plan', () => {
  const block = (number: number, of: number, state: string, restsAfter = false) => ({
    number,
    move: of,
    title: `part ${String(number)}`,
    expected: 'PT9M',
    settle: 'PT1M',
    return: { state, length: 'PT0S', why: '' },
    restsAfter,
  });
  const plan = {
    moves: [
      { number: 1, component: 'a', jumps: [{ component: 'a', from: '1', to: '2', method: 'rolling' }], out: [], transitional: [] },
      {
        number: 2,
        component: 'b',
        jumps: [{ component: 'b', from: '1', to: '2', method: 'rolling' }],
        out: [],
        transitional: ['b 2 with a 2'],
      },
    ],
    blocks: [block(1, 1, 'clean'), block(2, 1, 'with-loss', true), block(3, 2, 'with-loss'), block(4, 2, 'closed')],
    windows: [
      { firstMove: 1, lastMove: 1, from: `${day(0)}T01:00:00+00:00` },
      { firstMove: 2, lastMove: 2, from: `${day(7)}T01:00:00+00:00` },
    ],
  } as unknown as Plan;
  it('spans the parts of each move', () => {
    expect(stripOfPlan(plan).steps.map((s) => [s.start, s.length])).toEqual([
      [0, 20],
      [20, 20],
    ]);
  });
  it('has a joint move in the row of each of its components', () => {
    const jumps = [
      { component: 'a', from: '1', to: '2', method: 'offline' },
      { component: 'a', from: '2', to: '3', method: 'offline' },
      { component: 'c', from: '1', to: '2', method: 'offline' },
    ];
    const joint = { ...plan, moves: [{ number: 1, component: 'a', jumps, out: ['a', 'c'], transitional: [] }] } as unknown as Plan;
    expect(stripOfPlan(joint).steps.map((s) => `${s.component} ${s.from} ${s.to}`)).toEqual(['a 1 3', 'c 1 2']);
  });
  it('rests where the plan does, and says till when', () => {
    const nextWeek = `${Number(day(7).slice(8))} May`;
    expect(stripOfPlan(plan).rests).toEqual([{ at: 20, label: `rests till ${nextWeek}` }]);
  });
  it('tells where the return path changes', () => {
    expect(stripOfPlan(plan).returns.map((r) => [r.at, r.state])).toEqual([
      [10, 'clean'],
      [20, 'with-loss'],
      [40, 'closed'],
    ]);
  });
});
