import { readFileSync } from 'node:fs';
import { describe, expect, it } from 'vitest';
import { pathAt, wordsAt } from './completion';

const at = (text: string) => pathAt(text.replace('|', ''), text.indexOf('|'));

describe('the place in a document', () => {
  it('is told by indentation', () => {
    expect(at('a:\n  b:\n    c: 1\n    |')).toEqual(['a', 'b']);
    expect(at('a:\n  b: 1\n|')).toEqual([]);
  });
  it('is told inside of maps on one line', () => {
    expect(at('nodes:\n  app-1: {site: main, reach: {by: |')).toEqual(['nodes', 'app-1', 'reach', 'by']);
    expect(at('estate: {id: x, |')).toEqual(['estate']);
  });
  it('is told inside of lists', () => {
    expect(at('jumps:\n  - {from: "1", |')).toEqual(['jumps', '[]']);
  });
});

describe('words of the published schema', () => {
  const schema: unknown = JSON.parse(readFileSync('../docs/formats/estate.schema.json', 'utf8'));
  const labels = (path: string[]) => wordsAt(schema, path).map((w) => w.label);
  it('are the keys that may stand there', () => {
    expect(labels([])).toEqual(expect.arrayContaining(['nodes', 'components', 'sites']));
    expect(labels(['nodes', 'app-1'])).toEqual(expect.arrayContaining(['site', 'reach']));
  });
  it('are the values that may stand there', () => {
    expect(labels(['nodes', 'app-1', 'reach', 'by'])).toEqual(expect.arrayContaining(['ssh', 'person']));
  });
});
