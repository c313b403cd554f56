import { describe, expect, it } from 'vitest';
import { age, bySite, pageOf, troubles, type ComponentSummary } from './model';

const component = (id: string, more: Partial<ComponentSummary> = {}): ComponentSummary => ({
  component: id,
  product: 'p',
  versions: [{ version: '1', members: 3 }],
  members: 3,
  inService: 3,
  notRead: 0,
  owing: 0,
  staged: 0,
  support: 'supported',
  ...more,
});

describe('the estate', () => {
  it('stands by site, and what spans sites stands last', () => {
    expect(bySite([component('a'), component('b', { site: 'south' }), component('c', { site: 'north' })]).map(([site]) => site)).toEqual([
      'north',
      'south',
      'across sites',
    ]);
  });
  it('says what is wrong and nothing where all is well', () => {
    expect(troubles(component('a'))).toEqual([]);
    expect(
      troubles(
        component('a', {
          versions: [
            { version: '1', members: 1 },
            { version: '2', members: 1 },
          ],
          notRead: 1,
          inService: 1,
          owing: 1,
          support: 'ended',
          supportEnds: '2026-01-01',
        }),
      ),
    ).toEqual(['mixed', '1 not read', '1 out', '1 owe a restart', 'support ended 2026-01-01']);
  });
  it('asks for a page by what it is narrowed by', () => {
    expect(pageOf({ component: 'a/b', text: 'x y', standing: 'out' }, 'a/n1')).toBe(
      '/api/members?limit=200&component=a%2Fb&text=x+y&standing=out&after=a%2Fn1',
    );
    expect(pageOf({ text: '', standing: '' })).toBe('/api/members?limit=200');
  });
  it('tells age in words', () => {
    const now = Date.parse('2026-11-20T12:00:00Z');
    expect(
      ['2026-11-20T11:59:50Z', '2026-11-20T11:20:00Z', '2026-11-20T02:00:00Z', '2026-11-10T12:00:00Z'].map((at) => age(at, now)),
    ).toEqual(['just now', '40 min ago', '10 h ago', '10 d ago']);
  });
});
