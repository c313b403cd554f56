/** Shapes of components, members and readings as the service answers them. */
export interface ComponentSummary {
  component: string;
  product: string;
  site?: string;
  platform?: string;
  versions: { version: string; members: number }[];
  members: number;
  inService: number;
  notRead: number;
  owing: number;
  staged: number;
  support: 'ended' | 'soon' | 'supported' | 'not known';
  supportEnds?: string;
}
export interface MemberLine {
  member: string;
  node: string;
  site: string;
  domain?: string;
  role?: string;
  running?: string;
  installed?: string;
  staged?: string;
  inService: boolean;
  read: boolean;
  unreached?: string;
  lastKnown?: string;
  knownAt?: string;
}
export interface MemberPage {
  members: MemberLine[];
  total: number;
  next?: string;
}
export interface Reading {
  name: string;
  value?: string;
  kind: string;
  source: string;
  missed?: string;
}
export interface MemberView {
  member: string;
  node: string;
  site: string;
  product: string;
  at?: string;
  lost?: string;
  readings: Reading[];
}
export interface Schedule {
  every?: string;
  by: string;
  next?: string;
}

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

/** The address of a page of members. */
export function pageOf(filter: Filter, after?: string): string {
  const query = new URLSearchParams({ limit: '200' });
  if (filter.component) query.set('component', filter.component);
  if (filter.text) query.set('text', filter.text);
  if (filter.standing) query.set('standing', filter.standing);
  if (after) query.set('after', after);
  return `/api/members?${query.toString()}`;
}

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

/** How old something is, in words. */
export function age(at: string, now: number): string {
  const minutes = Math.max(0, Math.round((now - new Date(at).getTime()) / 60000));
  if (minutes < 1) return 'just now';
  if (minutes < 60) return `${String(minutes)} min ago`;
  if (minutes < 48 * 60) return `${String(Math.round(minutes / 60))} h ago`;
  return `${String(Math.round(minutes / 1440))} d ago`;
}
