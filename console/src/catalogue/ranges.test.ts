import { describe, expect, it } from 'vitest';
import type { Matrix, MatrixPlace } from '../shared/shapes';
import { endsOf, rangesOf } from './ranges';

const place = (at: string, verdict: MatrixPlace['verdict'], noData = false, today: string[] = []): MatrixPlace => ({
  this: '7',
  at,
  verdict,
  noData,
  rules: [],
  today,
});

describe('a row of the matrix', () => {
  it('joins neighbours of one verdict and keeps no data apart from supported', () => {
    expect(rangesOf([place('1', 'untested'), place('2', 'supported'), place('3', 'supported'), place('4', 'supported', true)])).toEqual([
      { from: 0, to: 0, word: 'untested' },
      { from: 1, to: 2, word: 'supported' },
      { from: 3, to: 3, word: 'no data' },
    ]);
  });
  it('has no range where there is no release', () => {
    expect(rangesOf([])).toEqual([]);
  });
});

describe('the ends of a plan', () => {
  const matrix = {
    places: [place('1', 'supported', false, ['app with base', 'other with base']), place('2', 'supported')],
  } as unknown as Matrix;
  it('are where its moves lead the pairs of today', () => {
    expect([...endsOf(matrix, [{ component: 'base', to: '2' }])]).toEqual([['7|2', ['app with base', 'other with base']]]);
    expect([...endsOf(matrix, [{ component: 'app', to: '8' }])]).toEqual([['8|1', ['app with base']]]);
  });
  it('are none where no pair is touched', () => {
    expect(endsOf(matrix, [{ component: 'elsewhere', to: '2' }]).size).toBe(0);
  });
});
