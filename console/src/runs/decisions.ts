import type { DecisionKind } from '../shared/shapes';

/** The three ways out of a halt, in the order in which they are offered. */
export const ways = ['on', 'back', 'stop'] as const;
export type Way = (typeof ways)[number];
export const wayTitles: Record<Way, string> = { on: 'Go on', back: 'Go back', stop: 'Stop here' };

export interface DecisionText {
  way: Way;
  title: string;
  /** What stands in the report in place of a step's own proof needs a reason. */
  reason: boolean;
  /** Something is given up by it that nothing brings back. */
  danger?: boolean;
  what: string;
}

/** What each decision is called and what it does, whoever decides. */
export const decisions: Record<DecisionKind, DecisionText> = {
  'try-again': { way: 'on', title: 'Try again', reason: false, what: 'The step that failed is done once more, as it is planned.' },
  'correct-and-try-again': {
    way: 'on',
    title: 'Correct and try again',
    reason: true,
    what: 'The step is done once more with what you change of it here; the plan stays as it is.',
  },
  'mark-as-done': {
    way: 'on',
    title: 'Mark as done',
    reason: true,
    what: 'The step counts as done on your word; its own proof is not asked for. What follows builds on it.',
  },
  skip: { way: 'on', title: 'Skip', reason: true, what: 'The step is left out on this member, and the run goes on without it.' },
  'leave-out': {
    way: 'on',
    title: 'Leave this member out',
    reason: true,
    what: 'The member stays as it is now, out of the run; the run goes on with the others as far as the guards allow.',
  },
  'return-member': {
    way: 'on',
    title: 'Return this member and go on',
    reason: true,
    what: 'This member alone is led back to the version it had; the run goes on with the others.',
  },
  'go-past-window': { way: 'on', title: 'Go past the window', reason: true, what: 'The run goes on though its window ends.' },
  'accept-differences': {
    way: 'on',
    title: 'Accept what differs',
    reason: true,
    what: 'What is answered otherwise than before stands in the report as accepted by you.',
  },
  'return-as-far-as': {
    way: 'back',
    title: 'Return …',
    reason: false,
    what: 'A return run leads everything back, by the best return path from where the run stands.',
  },
  'stop-here': {
    way: 'stop',
    title: 'Stop here',
    reason: false,
    danger: true,
    what: 'The run ends where it stands; members stay on the versions they have now. It can be led back afterwards while its points serve.',
  },
};
