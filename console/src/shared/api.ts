/** Shapes of the service's answers that the console reads; the service's OpenAPI document is their source. */
export type StepStatus = 'pending' | 'working' | 'done' | 'failed';
export interface Step {
  id: string;
  title: string;
  status: StepStatus;
  begun?: string;
  ended?: string;
  why?: string;
  attempt?: string;
  attempts: number;
  person: boolean;
  instructions?: string;
  overdue: boolean;
  milestones?: { title: string; takes?: string; begun?: string }[];
}
export interface Lane {
  subject: string;
  state?: string;
  steps: Step[];
}
export interface ReturnPath {
  state: 'clean' | 'with-loss' | 'closed';
  length: string;
  why: string;
}
export interface Block {
  number: number;
  move: number;
  phase: string;
  wave: number;
  title: string;
  status: string;
  begun?: string;
  ended?: string;
  expected: string;
  settle: string;
  componentsOut: string[];
  return: ReturnPath;
  /** How many lanes the part has; they are told of the part that was asked for only. */
  members: number;
  lanes: Lane[];
}
export interface Decision {
  decision:
    | 'try-again'
    | 'correct-and-try-again'
    | 'mark-as-done'
    | 'skip'
    | 'return-member'
    | 'leave-out'
    | 'go-past-window'
    | 'accept-differences'
    | 'return-as-far-as'
    | 'stop-here';
  means: string;
}
export interface Tide {
  component: string;
  from: string;
  to: string;
  old: number;
  new: number;
}
export interface Point {
  planned: { id: string; member: string; version: string };
  capturedAt: string;
  verified?: string;
  bytes: number;
}
export interface Run {
  run: string;
  label: string;
  status: string;
  plan: string;
  kind: string;
  by: string;
  parent?: string;
  child?: string;
  started?: string;
  ended?: string;
  lastAt: string;
  sequence: number;
  stepsDone: number;
  stepsTotal: number;
  share: number;
  planned: string;
  forecastEnd?: string;
  currentBlock: number;
  waitsFor?: string;
  halt?: string;
  decisions: Decision[];
  goal: string[];
  tide: Tide[];
  arrivals: { at: string; members: number }[];
  blocks: Block[];
  points: Point[];
  measures: string[];
  haltNumber?: number;
  startsAt?: string;
  holdsAt?: string;
  ledBackBy?: string;
  mayBeLedBack: boolean;
  persons: PersonAwaited[];
  signOffs: { asked: { id: string; block: number; why: string; byAnother: boolean }; awaited: boolean }[];
}
/** What waits for a person: a step to be done, or a measure to be taken back. */
export interface PersonAwaited {
  step: string;
  title: string;
  member: string;
  since?: string;
  owner?: string;
  instructions: string;
  command: string;
  undo?: boolean;
}
export interface RunLine {
  run: string;
  label: string;
  status: string;
  kind: string;
  parent?: string;
  opened: string;
  started?: string;
  ended?: string;
  share: number;
  by: string;
  /** Why what is kept of it can't be read. */
  setAside?: string;
}
export interface ComponentLine {
  component: string;
  product: string;
  site?: string;
  versions: string;
  mixed: boolean;
  members: { member: string; inService: boolean; running?: string; read: boolean; unreached?: string }[];
}
export interface Estate {
  estate: string;
  title: string;
  class: string;
  zone: string;
  surveyed?: string;
  components: ComponentLine[];
}
export interface ReturnOutlook {
  open: boolean;
  length?: string;
  loss?: string[];
  goal?: string[];
  blocks?: string[];
  why?: string[];
}

/** Something that a run left to be done. */
export interface NextStep {
  component: string;
  runs: string;
  to: string;
  why: string;
}
export interface FollowUp {
  run: string;
  id: string;
  what: string;
  about: string;
  owner?: string;
  due: string;
  urgent: boolean;
  why: string;
  done: boolean;
  by?: string;
  note?: string;
}
/** A rollback point as it stands now. */
export interface PointLine {
  run: string;
  id: string;
  member: string;
  node: string;
  leadsTo: string;
  place: string;
  bytes: number;
  verified?: string;
  state: string;
  why?: string;
  until?: string;
  settled?: string;
  takesRoom: boolean;
}

/** A refusal of the service, with what to do about it. */
export class Refused extends Error {}

const nameKey = 'tide-step-name';
export const actingName = () => localStorage.getItem(nameKey) ?? '';
export const setActingName = (name: string) => localStorage.setItem(nameKey, name.trim());

let ahead = 0;

/** Now, by the service's clock, which need not be this machine's. */
export const now = () => Date.now() + ahead;

/** A moment of this machine's clock by the service's. */
export const byService = (at: number) => at + ahead;

function hear(response: Response) {
  const told = Date.parse(response.headers.get('date') ?? '');
  // The header tells whole seconds; less than that is no difference.
  if (!Number.isNaN(told)) ahead = Math.abs(told - Date.now()) > 2000 ? told - Date.now() : 0;
}

async function answer(response: Response): Promise<unknown> {
  hear(response);
  const text = await response.text();
  const body: unknown = text.length > 0 && response.headers.get('content-type')?.includes('json') ? JSON.parse(text) : text;
  if (response.ok) return body;
  const refusal = body as { title?: string; problems?: { what: string; hint?: string }[] };
  const said = refusal.problems?.map((p) => `${p.what}${p.hint ? ` — ${p.hint}` : ''}`).join('\n');
  throw new Refused(said ?? refusal.title ?? `the service answered ${String(response.status)}`);
}

export const get = async <T>(path: string): Promise<T> => (await answer(await fetch(path))) as T;

/** A list page after page, as the Link headers name them, up to so many lines; and whether there are more. */
export async function getList<T>(path: string, most = Infinity): Promise<{ lines: T[]; more: boolean }> {
  const lines: T[] = [];
  for (let next: string | undefined = path; next !== undefined && lines.length < most;) {
    const response: Response = await fetch(next);
    lines.push(...((await answer(response)) as T[]));
    next = /<([^>]*)>; *rel="next"/.exec(response.headers.get('link') ?? '')?.[1];
    if (lines.length >= most) return { lines: lines.slice(0, most), more: next !== undefined || lines.length > most };
  }
  return { lines, more: false };
}

/** Asks for something to be ended; that it has ended already is as good. */
export const drop = async (path: string) => {
  await fetch(path, { method: 'DELETE', headers: { 'Tide-Step-Name': encodeURIComponent(actingName()) } });
};

/** Puts a value in the place of another, under the acting name. */
export const put = async (path: string, body: unknown) =>
  answer(
    await fetch(path, {
      method: 'PUT',
      headers: { 'Content-Type': 'application/json', 'Tide-Step-Name': encodeURIComponent(actingName()) },
      body: JSON.stringify(body),
    }),
  );

/** Posts with a fresh idempotency key and the acting name. */
export const post = async (path: string, body: unknown = {}) =>
  answer(
    await fetch(path, {
      method: 'POST',
      headers: {
        'Content-Type': 'application/json',
        'Idempotency-Key': crypto.randomUUID(),
        'Tide-Step-Name': encodeURIComponent(actingName()),
      },
      body: JSON.stringify(body),
    }),
  );
