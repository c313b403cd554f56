import { Button, FileInput, NativeSelect, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Act } from '../parts/Act';
import { Trouble } from '../parts/Loaded';
import { api, told } from '../shared/client';
import { contentOf } from '../shared/files';
import type { Product, Shapes } from '../shared/shapes';
import { meaningsOf } from './tables';
import { useActingName } from '../shared/useActingName';

interface Upload {
  name: string;
  content: string;
}

const relations = { 'depends-on': 'depends on', 'stands-on': 'stands on', inside: 'is inside of', peer: 'is a peer of' };

/** Rules out of somebody's table: what the file holds, what its columns mean, the rules as they would be written and what they would change; a person confirms them. */
export function TableImport({ product, products }: { product: Product; products: Product[] }) {
  const queries = useQueryClient();
  const name = useActingName();
  const [file, setFile] = useState<Upload>();
  const [table, setTable] = useState(1);
  const [other, setOther] = useState(product.related[0]?.other ?? products.find((p) => p.id !== product.id)?.id ?? '');
  const [relation, setRelation] = useState<string>('depends-on');
  const [columns, setColumns] = useState({ this: '', at: '', verdict: '' });
  const [words, setWords] = useState('');
  const [source, setSource] = useState('');
  const upload = useMutation({
    mutationFn: async (chosen: File) => {
      const read = { name: chosen.name, content: await contentOf(chosen) };
      const tables = await told(api.POST('/api/catalogue/tables', { body: read }));
      setFile(read);
      setTable(1);
      setSource(chosen.name);
      return tables;
    },
    onMutate: () => {
      setFile(undefined);
      rules.reset();
    },
  });
  const rules = useMutation({
    mutationFn: (confirm?: number) => {
      if (!file) throw new Error('Choose a file first.');
      return told(
        api.POST('/api/catalogue/rules', {
          body: {
            file,
            table,
            product: product.id,
            relation,
            other,
            ...(columns.this && { this: columns.this }),
            ...(columns.at && { at: columns.at }),
            ...(columns.verdict && { verdict: columns.verdict }),
            words: meaningsOf(words) as Record<string, Shapes['Verdict']>,
            ...(source.trim() && { source: source.trim() }),
            confirm: confirm !== undefined,
            ...(confirm !== undefined && { revision: confirm }),
          },
        }),
      );
    },
    onSuccess: (answer) =>
      answer.written ? Promise.all(['catalogue', 'matrix'].map((key) => queries.invalidateQueries({ queryKey: [key] }))) : undefined,
  });
  const shown = upload.data?.find((t) => t.number === table);
  const set = (change: () => void) => {
    rules.reset();
    change();
  };
  const column = (key: 'this' | 'at' | 'verdict', label: string, otherwise: string) => (
    <NativeSelect
      size="xs"
      label={label}
      value={columns[key]}
      onChange={(e) => set(() => setColumns({ ...columns, [key]: e.currentTarget.value }))}
      data={[{ value: '', label: otherwise }, ...[...new Set(shown?.heading)].map((h) => ({ value: h, label: h }))]}
    />
  );
  const draft = rules.data?.draft;
  return (
    <section className="table-import stack" aria-label="rules from a table">
      <FileInput
        label="File (CSV, XLSX, Markdown or HTML)"
        size="xs"
        accept=".csv,.tsv,.xlsx,.md,.html,.htm"
        w={340}
        placeholder="Choose a file"
        onChange={(chosen) => {
          if (chosen) upload.mutate(chosen);
        }}
      />
      <Trouble of={upload.error} />
      {file && shown && (
        <>
          <div className="line">
            {upload.data && upload.data.length > 1 && (
              <NativeSelect
                size="xs"
                label="Table"
                value={String(table)}
                onChange={(e) => set(() => setTable(Number(e.currentTarget.value)))}
                data={upload.data.map((t) => ({
                  value: String(t.number),
                  label: `${String(t.number)}: ${t.heading.slice(0, 3).join(', ')}`,
                }))}
              />
            )}
            <NativeSelect
              size="xs"
              label={`${product.title ?? product.id}, relation`}
              value={relation}
              onChange={(e) => set(() => setRelation(e.currentTarget.value))}
              data={Object.entries(relations).map(([value, label]) => ({ value, label }))}
            />
            <NativeSelect
              size="xs"
              label="Other product"
              value={other}
              onChange={(e) => set(() => setOther(e.currentTarget.value))}
              data={products.map((p) => ({ value: p.id, label: p.title ?? p.id }))}
            />
          </div>
          <div className="line">
            {column('this', `Versions of ${product.title ?? product.id} are in`, 'the first column')}
            {column('at', 'Those of the other in', 'the heading')}
            {column('verdict', 'Verdicts in', 'the places of the table')}
            <TextInput
              label="What words of the table mean"
              placeholder="certified = supported; retired = unsupported"
              w={330}
              value={words}
              onChange={(e) => set(() => setWords(e.currentTarget.value))}
            />
            <TextInput label="Title of the document" w={220} value={source} onChange={(e) => set(() => setSource(e.currentTarget.value))} />
          </div>
          <div className="matrix-scroll">
            <table className="lines" aria-label="what the file holds">
              <thead>
                <tr>
                  {shown.heading.map((h, i) => (
                    <th key={`${h} ${String(i)}`}>{h}</th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {shown.first.map((row, i) => (
                  <tr key={i}>
                    {row.map((cell, j) => (
                      <td key={j}>{cell}</td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            {shown.rows - 1 > shown.first.length && <p className="soft">and {shown.rows - 1 - shown.first.length} rows more</p>}
          </div>
          <p>
            <Button variant="default" loading={rules.isPending} onClick={() => rules.mutate(undefined)}>
              Show the rules
            </Button>
          </p>
        </>
      )}
      <Trouble of={rules.error} />
      {draft && (
        <div role="status" aria-label="rules">
          <pre className="output rules">{draft.lines.join('\n')}</pre>
          <p>
            {draft.changes.length === 0
              ? 'They change no verdict.'
              : `They change ${String(draft.changes.length)} of ${String(draft.verdicts)} verdicts: ${draft.changes
                  .slice(0, 6)
                  .map((c) => `${c.this} with ${c.at}, ${c.before} becomes ${c.after}`)
                  .join('; ')}${draft.changes.length > 6 ? '; …' : '.'}`}
          </p>
          {rules.data?.written ? (
            <p>
              ✓ Put into the document of {product.title}, revision {rules.data.revision}.
            </p>
          ) : (
            <Act call="POST /api/catalogue/rules" loading={rules.isPending} onClick={() => rules.mutate(rules.data?.revision)}>
              Put {draft.lines.length === 1 ? 'this rule' : `these ${String(draft.lines.length)} rules`} into the catalogue as{' '}
              {name || 'nobody yet'}
            </Act>
          )}
        </div>
      )}
    </section>
  );
}
