import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { actingName, post } from '../shared/api';
import { contentOf } from '../shared/files';
import { type Product } from '../plans/model';
import { meaningsOf, type RulesAnswer, type TableShown } from './tables';

interface Upload {
  name: string;
  content: string;
}

const relations = { 'depends-on': 'depends on', 'stands-on': 'stands on', inside: 'is inside of', peer: 'is a peer of' };

/** Rules out of somebody's table: what the file holds, what its columns mean, the rules as they would be written and what they would change; a person confirms them. */
export function TableImport({ product, products, onClose }: { product: Product; products: Product[]; onClose: () => void }) {
  const queries = useQueryClient();
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
      const tables = (await post('/api/catalogue/tables', read)) as TableShown[];
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
    mutationFn: async (confirm?: number) =>
      (await post('/api/catalogue/rules', {
        file,
        table,
        product: product.id,
        relation,
        other,
        ...(columns.this && { this: columns.this }),
        ...(columns.at && { at: columns.at }),
        ...(columns.verdict && { verdict: columns.verdict }),
        words: meaningsOf(words),
        ...(source.trim() && { source: source.trim() }),
        ...(confirm !== undefined && { confirm: true, revision: confirm }),
      })) as RulesAnswer,
    onSuccess: (answer) =>
      answer.written ? Promise.all(['catalogue', 'matrix'].map((key) => queries.invalidateQueries({ queryKey: [key] }))) : undefined,
  });
  const shown = upload.data?.find((t) => t.number === table);
  const set = (change: () => void) => {
    rules.reset();
    change();
  };
  const column = (key: 'this' | 'at' | 'verdict', label: string, otherwise: string) => (
    <label>
      {label}{' '}
      <select value={columns[key]} onChange={(e) => set(() => setColumns({ ...columns, [key]: e.target.value }))}>
        <option value="">{otherwise}</option>
        {shown?.heading.map((h, i) => (
          <option key={`${h} ${String(i)}`}>{h}</option>
        ))}
      </select>
    </label>
  );
  const draft = rules.data?.draft;
  return (
    <section className="sheet table-import" aria-label="rules from a table">
      <h2>Rules of {product.title} from a table</h2>
      <p className="line">
        <label>
          File (CSV, XLSX, Markdown or HTML){' '}
          <input
            type="file"
            accept=".csv,.tsv,.xlsx,.md,.html,.htm"
            onChange={(e) => {
              if (e.target.files?.[0]) upload.mutate(e.target.files[0]);
            }}
          />
        </label>{' '}
        <button type="button" onClick={onClose}>
          Close
        </button>
      </p>
      {upload.error && <p className="problem">{upload.error.message}</p>}
      {file && shown && (
        <>
          <p className="line">
            {upload.data && upload.data.length > 1 && (
              <label>
                Table{' '}
                <select value={table} onChange={(e) => set(() => setTable(Number(e.target.value)))}>
                  {upload.data.map((t) => (
                    <option key={t.number} value={t.number}>
                      {t.number}: {t.heading.slice(0, 3).join(', ')}
                    </option>
                  ))}
                </select>
              </label>
            )}{' '}
            {product.title}{' '}
            <select aria-label="relation" value={relation} onChange={(e) => set(() => setRelation(e.target.value))}>
              {Object.entries(relations).map(([key, word]) => (
                <option key={key} value={key}>
                  {word}
                </option>
              ))}
            </select>{' '}
            <select aria-label="other product" value={other} onChange={(e) => set(() => setOther(e.target.value))}>
              {products.map((p) => (
                <option key={p.id} value={p.id}>
                  {p.title}
                </option>
              ))}
            </select>
          </p>
          <p className="line">
            {column('this', `Versions of ${product.title} are in`, 'the first column')}
            {column('at', 'those of the other in', 'the heading')}
            {column('verdict', 'verdicts in', 'the places of the table')}
          </p>
          <p className="line">
            <label>
              What words of the table mean{' '}
              <input
                value={words}
                placeholder="certified = supported; retired = unsupported"
                size={44}
                onChange={(e) => set(() => setWords(e.target.value))}
              />
            </label>
            <label>
              Title of the document <input value={source} size={28} onChange={(e) => set(() => setSource(e.target.value))} />
            </label>
          </p>
          <div className="matrix-scroll">
            <table aria-label="what the file holds">
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
                      <td key={j} className="n">
                        {cell}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            {shown.rows - 1 > shown.first.length && <p className="soft">and {shown.rows - 1 - shown.first.length} rows more</p>}
          </div>
          <p>
            <button type="button" onClick={() => rules.mutate(undefined)} disabled={rules.isPending}>
              Show the rules
            </button>
          </p>
        </>
      )}
      {rules.error && <p className="problem">{rules.error.message}</p>}
      {draft && (
        <div role="status" aria-label="rules">
          <pre className="rules">{draft.lines.join('\n')}</pre>
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
            <button type="button" className="main" disabled={rules.isPending} onClick={() => rules.mutate(rules.data?.revision)}>
              Put {draft.lines.length === 1 ? 'this rule' : `these ${String(draft.lines.length)} rules`} into the catalogue as{' '}
              {actingName() || 'nobody yet'}
            </button>
          )}
        </div>
      )}
    </section>
  );
}
