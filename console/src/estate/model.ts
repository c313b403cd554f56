import type { ComponentSummary } from '../shared/shapes';

/** What the members are narrowed by. */
export interface Filter {
  component?: string;
  text: string;
  standing: string;
}

export const standings = [
  ['', 'all members'],
  ['out', 'out of service'],
  ['not-read', 'not read'],
  ['differs', 'differing from the others'],
  ['owing', 'owing a restart'],
  ['staged', 'with a version staged'],
] as const;

/** The components by site, the sites of one component in the order of their names, those that span sites last. */
export function bySite(components: ComponentSummary[]): [string, ComponentSummary[]][] {
  const groups = new Map<string, ComponentSummary[]>();
  for (const c of components) {
    const site = c.site ?? 'across sites';
    groups.set(site, [...(groups.get(site) ?? []), c]);
  }
  return [...groups].sort(([a], [b]) => (a === 'across sites' ? 1 : b === 'across sites' ? -1 : a.localeCompare(b)));
}

/** What is to be said of a component at a glance; nothing where all is well. */
export function troubles(c: ComponentSummary): string[] {
  return [
    ...(c.versions.length > 1 ? ['mixed'] : []),
    ...(c.notRead > 0 ? [`${String(c.notRead)} not read`] : []),
    ...(c.inService < c.members - c.notRead ? [`${String(c.members - c.notRead - c.inService)} out`] : []),
    ...(c.owing > 0 ? [`${String(c.owing)} owe a restart`] : []),
    ...(c.support === 'ended'
      ? [`support ended ${c.supportEnds ?? ''}`]
      : c.support === 'soon'
        ? [`support ends ${c.supportEnds ?? ''}`]
        : []),
  ];
}
