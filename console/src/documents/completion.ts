/** What a schema says of one place. */
interface Schema {
  $ref?: string;
  properties?: Record<string, Schema>;
  patternProperties?: Record<string, Schema>;
  additionalProperties?: Schema | boolean;
  items?: Schema;
  anyOf?: Schema[];
  oneOf?: Schema[];
  allOf?: Schema[];
  enum?: unknown[];
  description?: string;
  $defs?: Record<string, Schema>;
}

/** A word that may stand somewhere. */
export interface Word {
  label: string;
  detail?: string;
  key: boolean;
}

/** The keys above a line of a block-style YAML document, from the outermost; "[]" for an item of a list. */
export function pathAt(text: string, position: number): string[] {
  const before = text.slice(0, position);
  const lines = before.split('\n');
  const last = lines.pop() ?? '';
  const path: string[] = [];
  let depth = indentOf(last);
  if (/^\s*- /.test(last)) path.unshift('[]');
  for (let i = lines.length - 1; i >= 0 && depth > 0; i--) {
    const line = lines[i] ?? '';
    if (line.trim() === '' || line.trim().startsWith('#') || indentOf(line) >= depth) continue;
    const [, dash = '', key] = /^\s*(- )?\s*(?:"([^"]+)"|[\w.-]+)?/.exec(line) ?? [];
    const name = key ?? /^\s*(?:- )?([\w.-]+)\s*:/.exec(line)?.[1];
    if (name !== undefined) path.unshift(name);
    if (dash) path.unshift('[]');
    depth = indentOf(line);
  }
  // A map written in one line stands inside of its own key, and of those that are open there.
  const inside = flowPath(last);
  const own = /^\s*(?:- )?(?:"([^"]+)"|([\w.-]+))\s*:\s*\S/.exec(last);
  if (own && inside.open) path.push(own[1] ?? own[2] ?? '');
  return [...path, ...inside.keys];
}

const indentOf = (line: string) => line.length - line.trimStart().length;

function flowPath(line: string): { open: boolean; keys: string[] } {
  const keys: string[] = [];
  let [open, word, key] = [0, '', ''];
  for (const c of line) {
    if (c === '{' || c === '[') {
      if (open > 0 && key) keys.push(key);
      open++;
      [word, key] = ['', ''];
    } else if (c === '}' || c === ']') {
      open--;
      if (open > 0) keys.pop();
      [word, key] = ['', ''];
    } else if (c === ':') [key, word] = [word.trim().replaceAll('"', ''), ''];
    else if (c === ',') [word, key] = ['', ''];
    else word += c;
  }
  return { open: open > 0, keys: open > 0 && key ? [...keys, key] : keys };
}

/** The words that a schema allows at a path: keys of a map, or the values of an enumeration. */
export function wordsAt(schema: unknown, path: string[]): Word[] {
  const root = schema as Schema;
  let places = [root];
  for (const key of path) places = places.flatMap((p) => expanded(root, p)).flatMap((p) => below(p, key));
  const found = new Map<string, Word>();
  for (const p of places.flatMap((s) => expanded(root, s))) {
    for (const [label, its] of Object.entries(p.properties ?? {})) found.set(label, { label, detail: its.description, key: true });
    for (const value of p.enum ?? []) if (typeof value === 'string') found.set(value, { label: value, key: false });
  }
  return [...found.values()];
}

function expanded(root: Schema, schema: Schema, depth = 0): Schema[] {
  if (depth > 12) return [];
  const own = schema.$ref ? [root.$defs?.[schema.$ref.split('/').at(-1) ?? ''] ?? {}] : [];
  const all = [...own, ...(schema.anyOf ?? []), ...(schema.oneOf ?? []), ...(schema.allOf ?? [])];
  return [schema, ...all.flatMap((s) => expanded(root, s, depth + 1))];
}

function below(schema: Schema, key: string): Schema[] {
  if (key === '[]') return schema.items ? [schema.items] : [];
  const found: Schema[] = [];
  const named = schema.properties?.[key];
  if (named) found.push(named);
  for (const [pattern, its] of Object.entries(schema.patternProperties ?? {})) if (new RegExp(pattern).test(key)) found.push(its);
  if (!named && typeof schema.additionalProperties === 'object') found.push(schema.additionalProperties);
  // A list that was left out of the path: its items are meant.
  if (found.length === 0 && schema.items) found.push(...below(schema.items, key));
  return found;
}
