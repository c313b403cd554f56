// @vitest-environment jsdom
import { MantineProvider } from '@mantine/core';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { cleanup, fireEvent, render, screen } from '@testing-library/react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { Shapes } from '../shared/shapes';
import { Act } from './Act';

const start = 'POST /api/runs/{run}/start' as const;

// What a browser has and this stand-in of one does not.
globalThis.matchMedia = () => ({ matches: false, addEventListener: () => undefined, removeEventListener: () => undefined }) as never;

function shown(lacks: Shapes['MeView']['lacks'], onClick: () => void, onSubmit: () => void) {
  const cache = new QueryClient({ defaultOptions: { queries: { staleTime: Infinity } } });
  const me: Shapes['MeView'] = { id: 'p1', name: 'Wren Hale', kind: 'person', roles: ['look'], named: true, lacks };
  cache.setQueryData(['me'], me);
  render(
    <QueryClientProvider client={cache}>
      <MantineProvider>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            onSubmit();
          }}
        >
          <Act call={start} type="submit" onClick={onClick}>
            Start
          </Act>
        </form>
      </MantineProvider>
    </QueryClientProvider>,
  );
  return screen.getByRole('button', { name: 'Start' });
}

afterEach(cleanup);

describe('a button that takes a role', () => {
  it('does what it says for whoever has it', () => {
    const [clicked, submitted] = [vi.fn(), vi.fn()];
    fireEvent.click(shown([], clicked, submitted));
    expect(clicked).toHaveBeenCalledOnce();
    expect(submitted).toHaveBeenCalledOnce();
  });

  it('says who may and does nothing for whoever lacks it, also by the keyboard', () => {
    const [clicked, submitted] = [vi.fn(), vi.fn()];
    const button = shown([{ why: 'this takes the role ‘run’', hint: 'Ask Odo Marsh.', calls: [start] }], clicked, submitted);
    expect(button.getAttribute('aria-disabled')).toBe('true');
    expect(button.getAttribute('aria-description')).toBe('This takes the role ‘run’. Ask Odo Marsh.');
    expect(button.hasAttribute('disabled')).toBe(false);
    fireEvent.click(button);
    expect(clicked).not.toHaveBeenCalled();
    expect(submitted).not.toHaveBeenCalled();
  });
});
