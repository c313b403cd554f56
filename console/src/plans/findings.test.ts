import { describe, expect, it } from 'vitest';
import type { Finding } from '../shared/shapes';
import { groups, idOf, sign, stands } from './findings';

const finding = (more: Partial<Finding>) =>
  ({
    check: 'room',
    subject: 'led/a',
    level: 'blocker',
    result: 'failed',
    what: 'short',
    moves: [],
    evidence: [],
    ...more,
  }) as Finding;
const waived = {
  at: '',
  level: 'blocker',
  result: 'failed',
  finding: 'room led/a',
  by: 'Wren',
  needsSecond: false,
  reason: 'known',
  ends: '',
} as Finding['waived'];

describe('findings', () => {
  it('what stands comes by its level, then what was accepted, then the rest folded', () => {
    const all = [
      finding({ result: 'passed' }),
      finding({ level: 'advice' }),
      finding({ level: 'caution', result: 'open' }),
      finding({}),
      finding({ waived }),
      finding({ result: 'not-applicable' }),
    ];
    expect(groups(all).map((g) => [g.title, g.folded])).toEqual([
      ['Stands in the way', false],
      ['To be known', false],
      ['Advice', false],
      ['Accepted', false],
      ['Passed', true],
      ['Does not apply', true],
    ]);
    expect(groups([finding({ result: 'passed' })]).map((g) => g.title)).toEqual(['Passed']);
  });
  it('an accepted finding stands no more, an open one does', () => {
    expect([finding({}), finding({ result: 'open' }), finding({ waived }), finding({ result: 'passed' })].map(stands)).toEqual([
      true,
      true,
      false,
      false,
    ]);
  });
  it('each has a shape and a word of its own', () => {
    const signs = [
      finding({}),
      finding({ level: 'caution' }),
      finding({ level: 'advice' }),
      finding({ waived }),
      finding({ result: 'passed' }),
      finding({ result: 'not-applicable' }),
    ].map((f) => sign(f));
    expect(new Set(signs.map((s) => s.state)).size).toBe(6);
    expect(new Set(signs.map((s) => s.word)).size).toBe(6);
    expect(sign(finding({ result: 'open' })).word).toBe('blocker, open');
    expect(idOf(finding({}))).toBe('room led/a');
  });
});
