import type { Block, Lane, Run, Step } from '../shared/shapes';

/** What a member is at: the step that works or failed, else the last that is done. */
export const doing = (lane: Lane): Step | undefined =>
  lane.steps.find((s) => s.status === 'working' || s.status === 'failed') ?? lane.steps.findLast((s) => s.status === 'done');

/** The step that comes next. */
export const next = (lane: Lane): Step | undefined => lane.steps.find((s) => s.status === 'pending');

/** Whether nothing happens on a member till a person has done and signed a step. */
export const waitsForPerson = (lane: Lane): boolean => lane.steps.some((s) => s.status === 'working' && s.person);

/** How a member stands: failed, waiting for a person, at work, done, or ahead. */
export function standing(lane: Lane): Mark {
  if (lane.steps.some((s) => s.status === 'failed')) return 'failed';
  if (lane.steps.every((s) => s.status === 'done')) return 'done';
  if (waitsForPerson(lane)) return 'person';
  return lane.steps.some((s) => s.status !== 'pending') ? 'working' : 'ahead';
}

export type Mark = 'done' | 'working' | 'person' | 'failed' | 'ahead';

/** A wave in the field of marks: how many of its members stand how. */
export interface Wave {
  block: number;
  wave: number;
  title: string;
  marks: [Mark, number][];
}

const ofBlock = (b: Block): Mark =>
  b.status === 'done' ? 'done' : b.status === 'failed' ? 'failed' : b.status === 'ahead' ? 'ahead' : 'working';

/** The waves of each move, in order, with how their members stand; those of the part that is looked at by their lanes. */
export function field(run: Run): { move: number; waves: Wave[] }[] {
  const moves = new Map<number, Wave[]>();
  for (const b of run.blocks.filter((x) => x.phase === 'roll')) {
    const counts = new Map<Mark, number>();
    for (const lane of b.lanes) counts.set(standing(lane), (counts.get(standing(lane)) ?? 0) + 1);
    const rest = b.members - b.lanes.length;
    if (rest > 0) counts.set(ofBlock(b), (counts.get(ofBlock(b)) ?? 0) + rest);
    const marks = (['done', 'working', 'person', 'failed', 'ahead'] as const)
      .map((m): [Mark, number] => [m, counts.get(m) ?? 0])
      .filter(([, n]) => n > 0);
    moves.set(b.move, [...(moves.get(b.move) ?? []), { block: b.number, wave: b.wave, title: b.title, marks }]);
  }
  return [...moves].map(([move, waves]) => ({ move, waves }));
}
