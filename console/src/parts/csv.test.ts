import { expect, it } from 'vitest';
import { csvOf } from './csv';

it('quotes what would be read otherwise', () => {
  expect(csvOf([{ run: 'a,b', why: 'said "no"\nthen yes', n: 2 }])).toBe('run,why,n\r\n"a,b","said ""no""\nthen yes",2\r\n');
  expect(csvOf([{ a: '=1+1', b: '-x', c: -2, d: '-2.5', e: '@now' }])).toBe("a,b,c,d,e\r\n'=1+1,'-x,-2,-2.5,'@now\r\n");
  expect(csvOf([])).toBe('\r\n');
});
