import { expect, it } from 'vitest';
import { csvOf } from './csv';

it('quotes what would be read otherwise', () => {
  expect(csvOf([{ run: 'a,b', why: 'said "no"\nthen yes', n: 2 }])).toBe('run,why,n\r\n"a,b","said ""no""\nthen yes",2\r\n');
  expect(csvOf([])).toBe('\r\n');
});
