import type { Shapes } from '../shared/shapes';

/** One component leaning on another. */
export type Edge = Shapes['RelationLine'];

/** Everything that leans on a component, or that it leans on, however far. */
export function reach(edges: Edge[], component: string, way: 'up' | 'down'): Set<string> {
  const seen = new Set<string>();
  const todo = [component];
  for (let at = todo.pop(); at !== undefined; at = todo.pop())
    for (const e of edges) {
      const next = way === 'up' ? (e.to === at ? e.from : undefined) : e.from === at ? e.to : undefined;
      if (next !== undefined && e.relation !== 'peer' && !seen.has(next)) {
        seen.add(next);
        todo.push(next);
      }
    }
  return seen;
}

/** What goes out of service with a component: what needs it, however far; what serves on without it stays. */
export function goesOutWith(edges: Edge[], component: string): Set<string> {
  return reach(
    edges.filter((e) => !e.optional),
    component,
    'up',
  );
}
