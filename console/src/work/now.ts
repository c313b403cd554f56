import type { ComponentSummary, Difference, Run, RunLine, Shapes } from '../shared/shapes';
import { day, many } from '../shared/times';

/** Something that waits for somebody, with where it is answered. */
export interface Awaited {
  key: string;
  state: string;
  what: string;
  who: string;
  since?: string;
  to: string;
}

/** What waits for a person: halts first, then persons' steps, sign-offs and held runs. */
export function awaited(runs: Run[]): Awaited[] {
  const name = (r: Run) => r.label || r.run;
  const halts = runs
    .filter((r) => r.status === 'halted')
    .map((r) => ({
      key: `${r.run} halt`,
      state: 'halted',
      what: `Decide: ${r.halt ?? 'the run has halted'}`,
      who: `${name(r)} has halted; anybody may decide`,
      since: r.lastAt,
      to: `/runs/${r.run}`,
    }));
  const persons = runs.flatMap((r) =>
    r.persons.map((p) => ({
      key: `${r.run} ${p.step} ${String(p.undo)}`,
      state: 'waiting',
      what: `${p.title}, on ${p.member}`,
      who: `${p.owner ?? 'whoever does it'}, in ${name(r)}`,
      since: p.since,
      to: `/runs/${r.run}`,
    })),
  );
  const signOffs = runs.flatMap((r) =>
    r.signOffs
      .filter((s) => s.awaited)
      .map((s) => ({
        key: `${r.run} ${s.asked.id}`,
        state: 'waiting',
        what: `Sign-off ${s.asked.why}`,
        who: `${s.asked.byAnother ? `anybody but ${r.by} and the plan’s author` : 'anybody'}, in ${name(r)}`,
        to: `/runs/${r.run}`,
      })),
  );
  const held = runs
    .filter((r) => r.status === 'held')
    .map((r) => ({
      key: `${r.run} held`,
      state: 'held',
      what: `Let it go on: ${name(r)}`,
      who: 'held; anybody may',
      since: r.lastAt,
      to: `/runs/${r.run}`,
    }));
  return [...halts, ...persons, ...signOffs, ...held];
}

export interface Risk {
  state: string;
  what: string;
  beside?: string;
  to: string;
}

const some = (names: string[]) =>
  names.length > 4 ? `${names.slice(0, 3).join(', ')} and ${String(names.length - 3)} more` : names.join(', ');

/** What may go wrong with nobody doing anything: members that can't be read, versions that drift, support that ends, artefacts that are missing, runs set aside. */
export function risks(
  components: ComponentSummary[],
  drift: Difference[],
  library: Shapes['LibraryView'] | undefined,
  open: RunLine[],
): Risk[] {
  const of = (which: (c: ComponentSummary) => boolean) => components.filter(which);
  const [unread, ended, soon, owing] = [
    of((c) => c.notRead > 0),
    of((c) => c.support === 'ended'),
    of((c) => c.support === 'soon'),
    of((c) => c.owing > 0),
  ];
  const found: (Risk | false)[] = [
    ...open
      .filter((r) => r.setAside)
      .map((r) => ({ state: 'set-aside', what: `${r.label || r.run} is set aside`, beside: r.setAside, to: `/runs/${r.run}` })),
    unread.length > 0 && {
      state: 'failed',
      what: `${many(
        unread.reduce((n, c) => n + c.notRead, 0),
        'member',
      )} could not be read`,
      beside: some(unread.map((c) => c.component)),
      to: '/estate?standing=not-read',
    },
    ended.length > 0 && {
      state: 'caution',
      what: `${many(ended.length, 'component')} out of support`,
      beside: some(ended.map((c) => c.component)),
      to: '/estate',
    },
    ...((library?.missing ?? []).length > 0
      ? [
          {
            state: 'caution',
            what: `${many(library?.missing.length ?? 0, 'artefact')} missing for plans`,
            beside: some((library?.missing ?? []).map((m) => m.name)),
            to: '/artefacts',
          },
        ]
      : []),
    drift.length > 0 && {
      state: 'caution',
      what: many(drift.length, 'value stands out of line', 'values stand out of line'),
      beside: some([...new Set(drift.map((d) => d.subject.split('/')[0] ?? d.subject))]),
      to: '/estate?view=out-of-line',
    },
    owing.length > 0 && {
      state: 'due',
      what: `${many(
        owing.reduce((n, c) => n + c.owing, 0),
        'member owes',
        'members owe',
      )} a restart`,
      beside: some(owing.map((c) => c.component)),
      to: '/estate?standing=owing',
    },
    soon.length > 0 && {
      state: 'due',
      what: `Support of ${many(soon.length, 'component')} ends soon`,
      beside: some(soon.map((c) => `${c.component} ${c.supportEnds ? day(c.supportEnds) : ''}`)),
      to: '/estate',
    },
  ];
  return found.filter((r): r is Risk => r !== false);
}
