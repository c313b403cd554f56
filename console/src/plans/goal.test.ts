import { describe, expect, it } from 'vitest';
import { day } from '../shared/days';
import type { Estate, Product } from '../shared/shapes';
import { asks, byProduct, choicesOf, emptyDraft, goalDocument, majorOf, withWish } from './goal';

const read = (text: string) => JSON.parse(text) as unknown;

describe('a goal put together', () => {
  it('is a goal document in the order of choosing', () => {
    const draft = { ...withWish(withWish(emptyDraft, ['b'], '2'), ['a'], ''), pins: ['c'], allowUntested: true };
    expect(read(goalDocument(draft))).toEqual({
      tidestep: 'goal/1',
      goal: [{ component: 'b', exactly: '2' }],
      pins: ['c'],
      'allow-untested': 'all',
    });
    expect(goalDocument(withWish(emptyDraft, ['b'], '2'))).not.toContain('pins');
  });

  it('may ask for any of a generation, a lowest release, or a day', () => {
    expect(read(goalDocument(withWish(withWish(emptyDraft, ['a'], 'to 7.x'), ['b'], 'at-least 2.1')))).toEqual({
      tidestep: 'goal/1',
      goal: [
        { component: 'a', to: '7.x' },
        { component: 'b', 'at-least': '2.1' },
      ],
    });
    expect(read(goalDocument({ ...emptyDraft, supportedAt: day(0) }))).toEqual({ tidestep: 'goal/1', 'supported-at': day(0) });
    expect([majorOf('7.2'), majorOf('v8 U2'), majorOf('preview')]).toEqual(['7', '8', 'preview']);
  });

  it('asks for nothing before a release or a day is chosen', () => {
    expect(asks(emptyDraft)).toBe(false);
    expect(asks(withWish(emptyDraft, ['a'], ''))).toBe(false);
    expect(asks(withWish(emptyDraft, ['a'], '2'))).toBe(true);
  });

  it('takes what is asked for off what stays put, and changes a wish where it stands', () => {
    const draft = withWish(withWish({ ...emptyDraft, pins: ['a'] }, ['a', 'b'], '2'), ['a'], '3');
    expect(draft.pins).toEqual([]);
    expect(draft.wishes).toEqual([
      { component: 'a', release: '3' },
      { component: 'b', release: '2' },
    ]);
  });
});

describe('what may be chosen', () => {
  const product = { id: 'app', title: 'App', releases: [{ label: '1.0' }, { label: '2.0', ends: day(0) }] } as unknown as Product;
  it('is the newest release first, then generations, then lowest releases', () => {
    expect(choicesOf(product).map((g) => g.items.map((i) => i.value))).toEqual([
      ['2.0', '1.0'],
      ['to 2.x', 'to 1.x'],
      ['at-least 2.0', 'at-least 1.0'],
    ]);
  });
  it('is found by a component or its product', () => {
    const estate = {
      components: [
        { component: 'x-1', product: 'app' },
        { component: 'y', product: 'other' },
      ],
    } as unknown as Estate;
    expect(byProduct(estate, [product], 'APP').map((g) => g.components.length)).toEqual([1]);
    expect(byProduct(estate, [product], 'nothing')).toEqual([]);
  });
});
