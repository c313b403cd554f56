// @vitest-environment jsdom
import { render } from '@testing-library/react';
import { expect, it } from 'vitest';
import { State } from './State';

it('gives states that must not be mixed up a shape of their own, not a colour alone', () => {
  const shapes = ['completed', 'running', 'halted', 'caution', 'waiting', 'held', 'returned', 'stopped-here', 'accepted', 'ahead'].map(
    (state) => render(<State of={state} />).container.querySelector('svg')?.innerHTML,
  );
  expect(new Set(shapes).size).toBe(shapes.length);
});

it('says the state in words beside its shape', () => {
  expect(render(<State of="stopped-here" />).container.textContent).toBe('stopped here');
  expect(render(<State of="failed">not read</State>).container.textContent).toBe('not read');
});
