// @vitest-environment node
import Ajv from 'ajv/dist/2020';
import { readdirSync, readFileSync } from 'node:fs';
import { resolve } from 'node:path';
import { describe, expect, it } from 'vitest';
import { parse } from 'yaml';

const root = resolve(import.meta.dirname, '../../..');
const read = (path: string) => readFileSync(resolve(root, path), 'utf8');
const ajv = new Ajv({ allowUnionTypes: true, strictTypes: false, strictRequired: false });
const folder = (path: string) => readdirSync(resolve(root, path)).map((f) => `${path}/${f}`);

/** Scalars are read as the text that stands there, as the product does. */
const document = (text: string): unknown => parse(text, { schema: 'failsafe' });

const documents = [
  ...folder('demo/catalogue'),
  ...folder('demo/goals'),
  'demo/estate.yaml',
  'demo/readings.yaml',
  'demo/notices.yaml',
  ...folder('lab/documents/catalogue'),
  ...folder('lab/documents/goals'),
  'lab/documents/estate.yaml',
  'lab/cluster/estate.yaml',
];

describe('the published schemas', () => {
  it.each(documents)('hold for %s', (path) => {
    const text = read(path);
    const kind = /^tidestep: ([a-z]+)\/1/.exec(text)?.[1] ?? '';
    const schema = JSON.parse(read(`docs/formats/${kind}.schema.json`)) as object & { $id: string };
    const validate = ajv.getSchema(schema.$id) ?? ajv.compile(schema);
    validate(document(text));
    expect(validate.errors ?? []).toEqual([]);
  });
  it('refuse an unknown key', () => {
    const schema = JSON.parse(read('docs/formats/goal.schema.json')) as object & { $id: string };
    const validate = ajv.getSchema(schema.$id) ?? ajv.compile(schema);
    expect(validate({ tidestep: 'goal/1', goals: [] })).toBe(false);
  });
});
