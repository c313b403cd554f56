import { afterEach, describe, expect, it } from 'vitest';
import { day } from './days';
import { ago, clock, fully, moment, ownZone, seconds, setEstateZone, size, span, until } from './times';

afterEach(() => setEstateZone(ownZone()));

const at = (offset: number) => new Date(now + offset * 1000).toISOString();
const now = Date.parse(`${day(14)}T12:00:00Z`);
const weekday = new Date(now).toLocaleDateString('en-GB', { weekday: 'short', timeZone: 'UTC' });

describe('times', () => {
  it('are of the estate, with the day only where it is not today', () => {
    setEstateZone('Pacific/Auckland');
    expect(clock(`${day(14)}T03:05:09Z`)).toBe('15:05:09');
    expect(moment(`${day(14)}T12:30:00Z`, now)).toBe('00:30:00');
    expect(moment(`${day(14)}T11:30:00Z`, now)).toBe(`${weekday} 15 May, 23:30`);
  });
  it('tell the reader’s own zone besides where it is another', () => {
    setEstateZone('Pacific/Auckland');
    expect(fully(`${day(14)}T03:05:09Z`).includes('for you')).toBe(ownZone() !== 'Pacific/Auckland');
    setEstateZone(ownZone());
    expect(fully(`${day(14)}T03:05:09Z`)).not.toContain('for you');
  });
  it('tell age, and what is ahead or late', () => {
    expect([-10, -2400, -36000, -864000].map((s) => ago(at(s), now))).toEqual(['just now', '40 min ago', '10 h ago', '10 d ago']);
    expect([until(at(5400), now), until(at(-5400), now)]).toEqual(['in 1 h 30 min', '1 h 30 min overdue']);
  });
});

describe('spans and sizes', () => {
  it('reads ISO 8601 durations', () => {
    expect(seconds('PT1H2M3.5S')).toBe(3723.5);
    expect(seconds('P1DT2H')).toBe(93600);
    expect(seconds(undefined)).toBe(0);
  });
  it('writes spans in the units that matter', () => {
    expect([span(40), span(360), span(5100), span(7200), span(187200)]).toEqual(['40 s', '6 min', '1 h 25 min', '2 h', '2 d 4 h']);
  });
  it('writes sizes in binary steps', () => {
    expect([size(0), size(1536), size(5 * 1024 ** 3)]).toEqual(['0 B', '1.5 KiB', '5 GiB']);
  });
});
