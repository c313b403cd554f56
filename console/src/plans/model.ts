import type { Path, Plan } from '../shared/shapes';
import { seconds, shortDay } from '../shared/times';

/** One jump as the strip draws it; times in minutes from the beginning. */
export interface Step {
  move: number;
  component: string;
  from: string;
  to: string;
  method: string;
  start: number;
  length: number;
  out: string[];
  note: string;
}
/** How the return path stands from a moment on. */
export interface ReturnSpan {
  at: number;
  state: string;
  title: string;
}
export interface Strip {
  steps: Step[];
  total: number;
  rests: { at: number; label: string }[];
  returns: ReturnSpan[];
}

/** A path's moves one after another, by the catalogue's figures. */
export function stripOfPath(path: Path): Strip {
  let at = 0;
  const steps: Step[] = [];
  path.moves.forEach((move, i) => {
    for (const jump of move.jumps)
      steps.push({
        move: i + 1,
        component: jump.component,
        from: jump.from,
        to: jump.to,
        method: move.jumps.length > 1 ? 'in one outage' : jump.method,
        start: at,
        length: move.minutes,
        out: move.out,
        note: move.transitional.map((t) => `${t.component} ${t.version} with ${t.with} ${t.at} only tolerated`).join('; '),
      });
    at += move.minutes;
  });
  return { steps, total: at, rests: [], returns: [] };
}

const minutes = (span: string) => seconds(span) / 60;

/** A plan's moves as its blocks take their time, with its resting places and the return path below. */
export function stripOfPlan(plan: Plan): Strip {
  let at = 0;
  const spans = new Map<number, { start: number; end: number }>();
  const rests: Strip['rests'] = [];
  const returns: ReturnSpan[] = [];
  for (const block of plan.blocks) {
    const length = minutes(block.expected) + minutes(block.settle);
    const span = spans.get(block.move);
    spans.set(block.move, { start: span?.start ?? at, end: at + length });
    if (returns.at(-1)?.state !== block.return.state) returns.push({ at: at + length, state: block.return.state, title: block.title });
    at += length;
    if (block.restsAfter) {
      const next = plan.windows.find((w) => w.firstMove > block.move);
      rests.push({
        at,
        label: next ? `rests till ${shortDay(next.from)}` : 'rests',
      });
    }
  }
  const steps = plan.moves.flatMap((m) => {
    const span = spans.get(m.number) ?? { start: 0, end: 0 };
    // A joint move stands in the row of each of its components.
    return [...new Set(m.jumps.map((j) => j.component))].map((component) => {
      const own = m.jumps.filter((j) => j.component === component);
      return {
        move: m.number,
        component,
        from: own[0]?.from ?? m.from,
        to: own.at(-1)?.to ?? m.to,
        method: own[0]?.method ?? m.method,
        start: span.start,
        length: span.end - span.start,
        out: m.out,
        note: m.transitional.map((t) => `${t} only tolerated`).join('; '),
      };
    });
  });
  return { steps, total: at, rests, returns };
}

/** Components in the order in which they first move, each with its steps. */
export function rows(strip: Strip): { component: string; steps: Step[] }[] {
  const found = new Map<string, Step[]>();
  for (const step of strip.steps) found.set(step.component, [...(found.get(step.component) ?? []), step]);
  return [...found].map(([component, steps]) => ({ component, steps }));
}
