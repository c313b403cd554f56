import dagre from '@dagrejs/dagre';
import type { ComponentSummary } from '../shared/shapes';
import { bySite } from './model';
import type { Edge } from './relations';

/** The size of a component on the map, in pixels. */
export const box = { width: 132, height: 36 };

const between = 34;

export interface Layout {
  nodes: { component: string; x: number; y: number }[];
  edges: { edge: Edge; path: string }[];
  sites: { site: string; x: number; y: number; width: number; height: number }[];
  width: number;
  height: number;
}

type Point = { x: number; y: number };

/** Site below site; in each what leans on others above them, in layers; what leads from site to site as a curve. */
export function layout(components: ComponentSummary[], edges: Edge[]): Layout {
  const at = new Map<string, Point>();
  const siteOf = new Map<string, string>();
  const sites: Layout['sites'] = [];
  const paths = new Map<Edge, Point[]>();
  let top = between;
  for (const [site, its] of bySite(components)) {
    const graph = new dagre.graphlib.Graph({ multigraph: true });
    graph.setGraph({ rankdir: 'TB', nodesep: 14, ranksep: 40, marginx: 14, marginy: 12 });
    const own = new Set(its.map((c) => c.component));
    for (const c of its) {
      graph.setNode(c.component, { ...box });
      siteOf.set(c.component, site);
    }
    const inside = edges.filter((e) => own.has(e.from) && own.has(e.to));
    for (const e of inside) graph.setEdge(e.from, e.to, {}, e.relation);
    dagre.layout(graph);
    const { width = 0, height = 0 } = graph.graph();
    for (const c of its) at.set(c.component, { x: graph.node(c.component).x, y: graph.node(c.component).y + top });
    for (const e of inside)
      paths.set(
        e,
        graph.edge({ v: e.from, w: e.to, name: e.relation }).points.map((p: Point) => ({ x: p.x, y: p.y + top })),
      );
    sites.push({ site, x: width / 2, y: top + height / 2, width, height });
    top += height + between;
  }
  return {
    nodes: [...at].map(([component, place]) => ({ component, ...place })),
    edges: edges
      .filter((e) => at.has(e.from) && at.has(e.to))
      .map((edge) => ({ edge, path: drawn(paths.get(edge), at.get(edge.from), at.get(edge.to)) })),
    sites,
    width: Math.max(...sites.map((s) => s.width), 0) + 20,
    height: top,
  };
}

function drawn(points: Point[] | undefined, from: Point | undefined, to: Point | undefined): string {
  if (points) return points.map((p, i) => `${i === 0 ? 'M' : 'L'}${p.x.toFixed(1)} ${p.y.toFixed(1)}`).join('');
  if (!from || !to) return '';
  const down = to.y > from.y;
  const [a, b] = [from.y + (down ? 1 : -1) * (box.height / 2), to.y - (down ? 1 : -1) * (box.height / 2)];
  const middle = (a + b) / 2;
  return `M${from.x.toFixed(1)} ${a.toFixed(1)}C${from.x.toFixed(1)} ${middle.toFixed(1)} ${to.x.toFixed(1)} ${middle.toFixed(1)} ${to.x.toFixed(1)} ${b.toFixed(1)}`;
}
