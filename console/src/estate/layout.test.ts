import { expect, it } from 'vitest';
import type { ComponentSummary } from '../shared/shapes';
import { box, layout } from './layout';
import type { Edge } from './relations';

const many = Array.from({ length: 200 }, (_, i) => ({ component: `c${String(i)}`, site: `s${String(i % 4)}` }) as ComponentSummary);
const edges = many.slice(4).map((c, i) => ({ from: c.component, to: `c${String(i)}`, relation: 'depends-on', optional: false }) as Edge);

it('puts two hundred components without one above another, and what leans above what it leans on', () => {
  const drawn = layout(many, edges);
  const at = new Map(drawn.nodes.map((n) => [n.component, n]));
  expect(at.size).toBe(200);
  for (const [i, a] of drawn.nodes.entries())
    for (const b of drawn.nodes.slice(i + 1))
      expect(Math.abs(a.x - b.x) >= box.width || Math.abs(a.y - b.y) >= box.height, `${a.component} and ${b.component}`).toBe(true);
  for (const e of edges) expect(at.get(e.from)?.y ?? 0).toBeLessThan(at.get(e.to)?.y ?? 0);
  expect(drawn.edges.every((e) => e.path.startsWith('M'))).toBe(true);
});

it('draws what leads from site to site, and leaves out what is not there', () => {
  const two = [
    { component: 'a', site: 'x' },
    { component: 'b', site: 'y' },
  ] as ComponentSummary[];
  const drawn = layout(two, [
    { from: 'a', to: 'b', relation: 'peer', optional: false },
    { from: 'a', to: 'gone', relation: 'depends-on', optional: false },
  ]);
  expect(drawn.edges.map((e) => e.path.includes('C'))).toEqual([true]);
  expect(drawn.sites.map((s) => s.site)).toEqual(['x', 'y']);
});
