import { describe, expect, it } from 'vitest';
import { day } from '../shared/days';
import type { ComponentSummary } from '../shared/shapes';
import { bySite, troubles } from './model';

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
          supportEnds: day(0),
        }),
      ),
    ).toEqual(['mixed', '1 not read', '1 out', '1 owe a restart', `support ended ${day(0)}`]);
  });
});
