/** One operation of a JSON Patch (RFC 6902), as far as the service sends them. */
export interface Operation {
  op: 'add' | 'remove' | 'replace' | 'move';
  path: string;
  /** Where what is moved was. */
  from?: string;
  value?: unknown;
}

type Node = Record<string, unknown> | unknown[];

const plain = (name: string) => name.replaceAll('~1', '/').replaceAll('~0', '~');

const isNode = (value: unknown): value is Node => typeof value === 'object' && value !== null;

function copied(node: unknown, path: string): Node {
  if (!isNode(node)) throw new Error(`nothing in the document fits ${path}`);
  return Array.isArray(node) ? [...(node as unknown[])] : { ...node };
}

/** The document after the operations. What they touch is made anew, the rest stays as it is, so that what shows an untouched part need not be drawn again. */
export function patched(document: unknown, operations: Operation[]): unknown {
  const own = new Set<unknown>();
  const ownOf = (node: unknown, path: string): Node => {
    if (own.has(node)) return node as Node;
    const copy = copied(node, path);
    own.add(copy);
    return copy;
  };
  let root = document;
  // The map or list that a place is in, made anew with all above it, and the place's name there.
  const within = (path: string): [Node, string] => {
    const names = path.split('/').slice(1).map(plain);
    const last = names.pop() ?? '';
    let at = ownOf(root, path);
    root = at;
    for (const name of names) {
      const below = ownOf((at as Record<string, unknown>)[name], path);
      (at as Record<string, unknown>)[name] = below;
      at = below;
    }
    return [at, last];
  };
  for (const { op, path, from, value } of operations) {
    if (path === '') {
      root = value;
      continue;
    }
    if (op === 'move') {
      const [was, name] = within(from ?? '');
      const moved = (was as Record<string, unknown>)[name];
      put(was, name, 'remove', undefined);
      const [at, last] = within(path);
      put(at, last, 'add', moved);
      continue;
    }
    const [at, last] = within(path);
    put(at, last, op, value);
  }
  return root;
}

function put(at: Node, name: string, op: Operation['op'], value: unknown) {
  if (!Array.isArray(at)) {
    if (op === 'remove') Reflect.deleteProperty(at, name);
    else at[name] = value ?? null;
  } else if (op === 'replace') at[Number(name)] = value ?? null;
  else if (op === 'remove') at.splice(Number(name), 1);
  else at.splice(name === '-' ? at.length : Number(name), 0, value ?? null);
}
