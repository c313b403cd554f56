import { expect, it } from 'vitest';
import { day } from '../shared/days';
import type { Run } from '../shared/shapes';
import { forecastOf } from './forecast';

const at = (time: string) => `${day(0)}T${time}:00.000Z`;
const run = { status: 'running', onlyPersonsWork: false, lastAt: at('01:00'), forecastEnd: at('02:00') } as unknown as Run;
const now = Date.parse(at('01:20'));

it('moves on with the clock while somebody is waited for', () => {
  expect(forecastOf(run, now)).toEqual({ at: at('02:00'), ifNow: false });
  expect(forecastOf({ ...run, status: 'halted', halt: 'it failed' }, now)).toEqual({ at: at('02:20'), ifNow: true });
  expect(forecastOf({ ...run, status: 'held' }, now)?.at).toBe(at('02:20'));
  expect(forecastOf({ ...run, onlyPersonsWork: true }, now)?.at).toBe(at('02:20'));
  expect(forecastOf({ ...run, forecastEnd: undefined }, now)).toBeUndefined();
});
