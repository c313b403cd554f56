import { expect, it } from 'vitest';
import { tideToShow } from './tides';

const tide = (component: string, old: number, moved: number) => ({ component, from: '1', to: '2', old, new: moved });

it('of many components those between two versions and the next ones are shown', () => {
  const many = [tide('a', 0, 3), tide('b', 1, 2), tide('c', 3, 0), tide('d', 3, 0), tide('e', 3, 0), tide('f', 3, 0), tide('g', 3, 0)];
  expect(tideToShow(many).map((t) => t.component)).toEqual(['b', 'c', 'd']);
  expect(tideToShow(many.slice(0, 6)).map((t) => t.component)).toEqual(['a', 'b', 'c', 'd', 'e', 'f']);
});
