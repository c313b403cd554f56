// @vitest-environment jsdom
import { expect, test } from 'vitest';
import { contentOf } from '../shared/files';
import { meaningsOf } from './tables';

test('words with what they mean are read, the rest is left out', () => {
  expect(meaningsOf('Certified = Supported; on request=untested;;=; no meaning')).toEqual({
    Certified: 'supported',
    'on request': 'untested',
  });
});

test('a file is sent as base64', async () => {
  expect(await contentOf(new Blob(['a,b\n']))).toBe('YSxiCg==');
});
