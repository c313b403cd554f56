import { expect, it } from 'vitest';
import { gathered } from './OutOfLine';

it('members of one component that differ alike are one line', () => {
  const d = (subject: string, found: string) => ({ subject, against: 'restart', value: 'running', expected: '2', found });
  expect(gathered([d('a/1', '1'), d('a/2', '1'), d('b/1', '1'), d('a/3', '0')]).map((l) => l.subjects)).toEqual([
    ['a/1', 'a/2'],
    ['b/1'],
    ['a/3'],
  ]);
});
