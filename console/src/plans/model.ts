import { seconds } from '../shared/words';

/** Shapes of paths, plans and the catalogue as the service answers them. */
export interface Jump {
  component: string;
  jump: string;
  from: string;
  to: string;
  method: string;
}
export interface PathMove {
  written: string;
  jumps: Jump[];
  minutes: number;
  outageMinutes: number;
  out: string[];
  waves: { members: string[]; domain?: string; role?: string }[];
  transitional: { component: string; version: string; with: string; at: string; why: string }[];
  mixedMinutes: number;
}
export interface Path {
  found: boolean;
  alreadyMet: boolean;
  proved: boolean;
  moves: PathMove[];
  reasons: { kind: string; what: string; opens: string }[];
  nearest: { component: string; version: string }[];
  notes: string[];
  alternatives: { first: string; moves: string[]; minutes: number; outageMinutes: number; differences: string[] }[];
  driven: { component: string; because: string[] }[];
}
export interface PlanWindow {
  name: string;
  from: string;
  to: string;
  firstMove: number;
  lastMove: number;
  ends: string;
  rests?: string;
}
export interface PlanBlock {
  number: number;
  move: number;
  phase: string;
  title: string;
  expected: string;
  settle: string;
  componentsOut: string[];
  stillServing: string[];
  return: { state: 'clean' | 'with-loss' | 'closed'; length: string; why: string };
  begins?: string;
  turnBack?: string;
  restsAfter: boolean;
  lanes: { subject: string; steps: { id: string; title: string; member: string; impact?: string; closes: boolean }[] }[];
}
export interface Plan {
  kind: string;
  estate: string;
  day: string;
  goal: string[];
  moves: {
    number: number;
    component: string;
    from: string;
    to: string;
    method: string;
    waves: number;
    wavesAtLeast: number;
    takes: string;
    out: string[];
    transitional: string[];
    converts: string[];
    jumps: { component: string; from: string; to: string; method: string }[];
  }[];
  blocks: PlanBlock[];
  answers: { id: string; asks: string; answer: string; given: boolean; moves: number[] }[];
  artefacts: { id: string; file?: string; bytes?: number; nodes: string[]; moves: number[]; forReturn: boolean }[];
  tasks: { when: string; move: number; component: string; title: string; owner?: string }[];
  points: { id: string; member: string; kind: string; move: number }[];
  expected: string;
  notes: string[];
  windows: PlanWindow[];
}
export interface KeptPlan {
  digest: string;
  plan: Plan;
}
export interface PlanLine {
  digest: string;
  kind: string;
  goal: string[];
  expected: string;
  moves: number;
  made: string;
  by: string;
  /** Why nothing can be done with it. */
  setAside?: string;
}
export interface Product {
  id: string;
  title: string;
  releases: {
    label: string;
    line: string;
    since?: string;
    ends?: string;
    brings: string[];
    removes: string[];
    changes: string[];
    problems: { what: string; prevent?: string }[];
  }[];
  jumps: {
    id: string;
    from: string;
    to: string;
    down: boolean;
    methods: string[];
    closes?: string;
    requires: { product: string; range: string }[];
  }[];
  related: { relation: string; other: string }[];
}

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
  state: 'clean' | 'with-loss' | 'closed';
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
        label: next ? `rests till ${new Date(next.from).toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })}` : 'rests',
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

/** The first number of a release's label, by which people name a generation of it. */
export const majorOf = (label: string) => /\d+/.exec(label)?.[0] ?? label;

// "to 7.x" and "at-least 7.1" say how; a bare label means exactly that release.
function wish(release: string) {
  const how = /^(to|at-least) (.+)$/.exec(release);
  return how ? { [how[1] ?? 'to']: how[2] } : { exactly: release };
}

/** The goal document that the chosen releases mean, or the day on which all shall be supported, as JSON. */
export function goalDocument(
  chosen: { component: string; release: string }[],
  pins: string[],
  allowUntested: boolean,
  supportedAt = '',
): string {
  return JSON.stringify({
    tidestep: 'goal/1',
    ...(supportedAt ? { 'supported-at': supportedAt } : { goal: chosen.map((c) => ({ component: c.component, ...wish(c.release) })) }),
    ...(pins.length > 0 && { pins }),
    ...(allowUntested && { 'allow-untested': 'all' }),
  });
}
