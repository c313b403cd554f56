// @vitest-environment jsdom
import { render, screen } from '@testing-library/react';
import { MemoryRouter } from 'react-router';
import { expect, test } from 'vitest';
import { Prose } from './Prose';

const shown = (text: string) =>
  render(
    <MemoryRouter>
      <Prose text={text} />
    </MemoryRouter>,
  ).container;

test('headings begin sections, lists and emphasis are such', () => {
  const page = shown('First.\n\n## A short one\n\n1. Open [the run](/runs/r1) with `tidestep`.\n2. *Try again*, **now**.');
  expect(page.querySelectorAll('section')).toHaveLength(2);
  expect(page.querySelectorAll('ol > li')).toHaveLength(2);
  expect(screen.getByRole('link', { name: 'the run' }).getAttribute('href')).toBe('/runs/r1');
  expect(page.querySelector('code')?.textContent).toBe('tidestep');
  expect(page.querySelector('em')?.textContent).toBe('Try again');
});

test.each([
  ['<img src=x onerror=alert(1)>', 'img'],
  ['text <b onclick=go()>bold</b>', 'b'],
  ['[a page](https://elsewhere.example/)', 'a'],
  ['[a script](javascript:alert(1))', 'a'],
  ['[another host](//elsewhere.example/)', 'a'],
])('what leads elsewhere or is HTML stays text: %s', (text, element) => {
  const page = shown(text);
  expect(page.querySelector(element)).toBeNull();
  expect(page.textContent).toContain(text.slice(0, 8));
});
