import type { ReactNode } from 'react';
import { words } from '../shared/words';

export type Tone = 'good' | 'work' | 'bad' | 'wait' | 'plain' | 'soft';

/** A shape and a tone for each state there is, so that colour is never all that tells it. */
const looks: Record<string, [Shape, Tone]> = {
  done: ['full', 'good'],
  completed: ['full', 'good'],
  'in-service': ['full', 'good'],
  passed: ['full', 'good'],
  clean: ['full', 'good'],
  sent: ['full', 'good'],
  good: ['full', 'good'],
  usable: ['full', 'good'],
  working: ['arrow', 'work'],
  'at work': ['arrow', 'work'],
  leaving: ['arrow', 'work'],
  restarting: ['arrow', 'work'],
  verifying: ['arrow', 'work'],
  running: ['arrow', 'work'],
  settling: ['arrow', 'work'],
  closing: ['arrow', 'work'],
  failed: ['cross', 'bad'],
  halted: ['cross', 'bad'],
  out: ['cross', 'bad'],
  closed: ['cross', 'bad'],
  blocker: ['cross', 'bad'],
  'set-aside': ['cross', 'bad'],
  damaged: ['cross', 'bad'],
  caution: ['peak', 'wait'],
  'with-loss': ['peak', 'wait'],
  overdue: ['peak', 'bad'],
  waiting: ['ring', 'wait'],
  due: ['ring', 'wait'],
  open: ['ring', 'wait'],
  held: ['bars', 'wait'],
  holding: ['bars', 'wait'],
  returned: ['back', 'plain'],
  returning: ['back', 'work'],
  reverted: ['back', 'plain'],
  'stopped-here': ['half', 'plain'],
  abandoned: ['half', 'soft'],
  'left-out': ['half', 'wait'],
  'given up': ['half', 'soft'],
  accepted: ['diamond', 'plain'],
  void: ['half', 'soft'],
  used: ['half', 'soft'],
};

type Shape = 'full' | 'arrow' | 'cross' | 'peak' | 'ring' | 'bars' | 'back' | 'half' | 'diamond' | 'dot';

const paths: Record<Shape, ReactNode> = {
  full: <rect x="2" y="2" width="12" height="12" fill="currentcolor" />,
  arrow: <path d="M3 1.5 14 8 3 14.5Z" fill="currentcolor" />,
  cross: <path d="M2 2l12 12M14 2 2 14" strokeWidth="3.4" />,
  peak: <path d="M8 2 15 14H1Z" />,
  ring: <circle cx="8" cy="8" r="6" />,
  bars: <path d="M4.5 2v12M11.5 2v12" strokeWidth="3.4" />,
  back: <path d="M13 1.5 2 8l11 6.5Z" />,
  half: <path d="M2 2h12v12H2ZM2 14 14 2" />,
  diamond: <path d="M8 1 15 8 8 15 1 8Z" />,
  dot: <circle cx="8" cy="8" r="2" fill="currentcolor" />,
};

/** Every state that has a look. */
export const states = Object.keys(looks);

/** The tone in which a state is told. */
export const toneOf = (state: string): Tone => looks[state]?.[1] ?? 'soft';

/** A state by shape and word. */
export function State({ of: state, children, strong }: { of: string; children?: ReactNode; strong?: boolean }) {
  const [shape, tone] = looks[state] ?? ['dot', 'soft'];
  return (
    <span className={`state tone-${tone}`} style={strong ? { fontWeight: 600 } : undefined}>
      <svg viewBox="0 0 16 16" aria-hidden="true">
        {paths[shape]}
      </svg>
      {children ?? words(state)}
    </span>
  );
}
