import type { Strip } from '../plans/model';
import type { Block, Lane, Run } from '../shared/shapes';

export interface Line {
  member: string;
  state: string;
  steps: number;
  note: string;
}

export const lines: Line[] = [
  { member: 'boards/bd-1', state: 'in-service', steps: 9, note: '' },
  { member: 'boards/bd-2', state: 'working', steps: 4, note: 'second attempt' },
  { member: 'boards/bd-3', state: 'failed', steps: 2, note: 'its checksum differs' },
];

const step = { method: 'rolling', out: [], note: '' };

export const strip: Strip = {
  total: 150,
  steps: [
    { ...step, move: 1, component: 'boards', from: '1.0', to: '1.2', start: 0, length: 40 },
    { ...step, move: 2, component: 'tickets', from: '4', to: '5', start: 40, length: 60, method: 'offline', out: ['tickets'] },
    { ...step, move: 3, component: 'boards', from: '1.2', to: '2.0', start: 100, length: 50 },
  ],
  rests: [{ at: 100, label: 'rests till Sunday' }],
  returns: [],
};

const lane = (subject: string, ...status: string[]) =>
  ({
    subject,
    steps: status.map((s, i) => ({ id: String(i), status: s, person: s === 'working' && subject === 'boards/bd-4' })),
  }) as unknown as Lane;

const block = (number: number, status: string, members: number, lanes: Lane[] = []) =>
  ({ number, move: 1, phase: 'roll', wave: number, title: `wave ${String(number)}`, status, members, lanes }) as unknown as Block;

export const run = {
  blocks: [
    block(1, 'done', 24),
    block(2, 'at work', 5, [
      lane('boards/bd-1', 'done'),
      lane('boards/bd-2', 'done', 'working'),
      lane('boards/bd-3', 'failed'),
      lane('boards/bd-4', 'working'),
      lane('boards/bd-5', 'pending'),
    ]),
    block(3, 'ahead', 12),
  ],
} as unknown as Run;

export const soon = new Date(Date.now() + 5_400_000).toISOString();
