import { describe, expect, it } from 'vitest';
import { mark, moment } from './words';

describe('moment', () => {
  const now = new Date(2026, 10, 27, 16, 15).getTime();
  it('names the day only where it is not today', () => {
    expect(moment(new Date(2026, 10, 27, 3, 5, 9).toISOString(), now)).toBe('03:05:09');
    expect(moment(new Date(2026, 10, 28, 3, 5, 9).toISOString(), now)).toBe('Sat 28 Nov, 03:05');
    expect(moment(new Date(2026, 10, 26, 23, 0).toISOString(), now)).toBe('Thu 26 Nov, 23:00');
  });
});

describe('mark', () => {
  it('tells what waits from what is at work and from what is held', () => {
    expect(new Set(['waiting', 'running', 'held', 'ready', 'halted', 'completed', 'returned'].map(mark)).size).toBe(7);
  });
});
