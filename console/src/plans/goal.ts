import type { Estate, Product } from '../shared/shapes';

/** A goal as it is put together: components with the release that each shall be at, in the order in which they were chosen; or the day on which everything shall be supported. */
export interface Draft {
  wishes: { component: string; release: string }[];
  pins: string[];
  allowUntested: boolean;
  supportedAt: string;
}
export const emptyDraft: Draft = { wishes: [], pins: [], allowUntested: false, supportedAt: '' };

/** Whether a draft asks for anything. */
export const asks = (draft: Draft) => draft.supportedAt !== '' || draft.wishes.some((w) => w.release !== '');

/** The first number of a release's label, by which people name a generation of it. */
export const majorOf = (label: string) => /\d+/.exec(label)?.[0] ?? label;

// "to 7.x" and "at-least 7.1" say how; a bare label means exactly that release.
function wish(release: string) {
  const how = /^(to|at-least) (.+)$/.exec(release);
  return how ? { [how[1] ?? 'to']: how[2] } : { exactly: release };
}

/** The goal document that a draft means, as JSON. */
export function goalDocument({ wishes, pins, allowUntested, supportedAt }: Draft): string {
  const chosen = wishes.filter((w) => w.release !== '');
  return JSON.stringify({
    tidestep: 'goal/1',
    ...(supportedAt ? { 'supported-at': supportedAt } : { goal: chosen.map((w) => ({ component: w.component, ...wish(w.release) })) }),
    ...(pins.length > 0 && { pins }),
    ...(allowUntested && { 'allow-untested': 'all' }),
  });
}

/** A draft with these components asked to be at a release. */
export const withWish = (draft: Draft, components: string[], release: string): Draft => ({
  ...draft,
  supportedAt: '',
  pins: draft.pins.filter((p) => !components.includes(p)),
  wishes: [
    ...draft.wishes.map((w) => (components.includes(w.component) ? { ...w, release } : w)),
    ...components.filter((c) => !draft.wishes.some((w) => w.component === c)).map((component) => ({ component, release })),
  ],
});

/** What a component may be asked to be at: releases, the best of a generation, no older than. */
export function choicesOf(product: Product): { group: string; items: { value: string; label: string }[] }[] {
  const releases = [...product.releases].reverse();
  return [
    {
      group: 'This release',
      items: releases.map((r) => ({
        value: r.label,
        label: `${r.label}${r.line ? `, ${r.line.replace('-', ' ')}` : ''}${r.ends ? `, to ${r.ends}` : ''}`,
      })),
    },
    {
      group: 'The best of',
      items: [...new Set(releases.map((r) => majorOf(r.label)))].map((m) => ({ value: `to ${m}.x`, label: `any ${m}` })),
    },
    { group: 'No older than', items: releases.map((r) => ({ value: `at-least ${r.label}`, label: `${r.label} or later` })) },
  ];
}

/** The components of an estate by product, those whose name or product has the text; products in the order of their titles. */
export function byProduct(estate: Estate, products: Product[], text: string) {
  const asked = text.trim().toLowerCase();
  return products
    .map((product) => ({
      product,
      components: estate.components.filter(
        (c) =>
          c.product === product.id && (asked === '' || `${c.component} ${product.id} ${product.title ?? ''}`.toLowerCase().includes(asked)),
      ),
    }))
    .filter((g) => g.components.length > 0);
}
