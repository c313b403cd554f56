import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { get } from '../shared/api';
import type { KeptPlan, PlanLine, Product } from '../plans/model';
import './catalogue.css';
import { MatrixChart } from './MatrixChart';
import { TableImport } from './TableImport';
import { endsOf, type Matrix } from './ranges';

const kebab = (relation: string) => relation.replace(/[A-Z]/g, (l) => `-${l.toLowerCase()}`);

/** What is known of a product: releases, jumps, and what its releases are to another product's. */
export function CataloguePage() {
  const products = useQuery({ queryKey: ['catalogue'], queryFn: () => get<Product[]>('/api/catalogue') });
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => get<PlanLine[]>('/api/plans') });
  const newest = plans.data?.find((p) => p.kind === 'upgrade')?.digest;
  const plan = useQuery({
    queryKey: ['plan', newest],
    queryFn: () => get<KeptPlan>(`/api/plans/${encodeURIComponent(newest ?? '')}`),
    enabled: newest !== undefined,
  });
  const [chosen, setChosen] = useState<string>();
  const [related, setRelated] = useState(0);
  const [importing, setImporting] = useState(false);
  const product = products.data?.find((p) => p.id === chosen) ?? products.data?.find((p) => p.related.length > 1) ?? products.data?.[0];
  const relation = product?.related[related] ?? product?.related[0];
  const matrix = useQuery({
    queryKey: ['matrix', product?.id, relation],
    queryFn: () =>
      get<Matrix>(
        `/api/catalogue/matrix?product=${product?.id ?? ''}&other=${relation?.other ?? ''}&relation=${kebab(relation?.relation ?? '')}`,
      ),
    enabled: relation !== undefined,
  });
  const problem = products.error ?? matrix.error;
  return (
    <>
      <h1>Catalogue</h1>
      {problem && <p className="problem">{problem.message}</p>}
      <p>
        <label>
          Product{' '}
          <select
            aria-label="product"
            value={product?.id ?? ''}
            onChange={(e) => {
              setChosen(e.target.value);
              setRelated(0);
            }}
          >
            {products.data?.map((p) => (
              <option key={p.id} value={p.id}>
                {p.title}
              </option>
            ))}
          </select>
        </label>{' '}
        {product && !importing && (
          <button type="button" onClick={() => setImporting(true)}>
            Rules from a table …
          </button>
        )}
      </p>
      {product && products.data && importing && (
        <TableImport key={product.id} product={product} products={products.data} onClose={() => setImporting(false)} />
      )}
      {product && (
        <div className="catalogue-columns">
          <section className="sheet" aria-label="releases">
            <h2>Releases</h2>
            <table>
              <thead>
                <tr>
                  <th>release</th>
                  <th>line</th>
                  <th>since</th>
                  <th>supported to</th>
                  <th>what changes</th>
                </tr>
              </thead>
              <tbody>
                {[...product.releases].reverse().map((r) => (
                  <tr key={r.label}>
                    <td className="n">{r.label}</td>
                    <td>{r.line.replace('-', ' ')}</td>
                    <td className="n">{r.since ?? '-'}</td>
                    <td className="n">{r.ends ?? 'not known'}</td>
                    <td>
                      {[
                        ...r.brings.map((b) => `brings ${b}`),
                        ...r.removes.map((b) => `removes ${b}`),
                        ...r.changes,
                        ...r.problems.map((p) => `known problem: ${p.what}${p.prevent ? ` (${p.prevent})` : ''}`),
                      ].join('; ')}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
          <section className="sheet" aria-label="jumps">
            <h2>Jumps</h2>
            <table>
              <thead>
                <tr>
                  <th>to</th>
                  <th>from</th>
                  <th>by</th>
                  <th>asks for, closes</th>
                </tr>
              </thead>
              <tbody>
                {product.jumps.map((j) => (
                  <tr key={j.id}>
                    <td className="n">
                      {j.to} {j.down && '(down)'}
                    </td>
                    <td className="n">{j.from}</td>
                    <td>{j.methods.map(kebab).join(', ')}</td>
                    <td>
                      {[
                        ...j.requires.map((r) => `${r.product} ${r.range}`),
                        ...(j.closes ? [`${j.closes} closes the return path`] : []),
                      ].join('; ')}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            {product.jumps.length === 0 && <p>No jump is known.</p>}
          </section>
        </div>
      )}
      {product && relation && (
        <section aria-label="matrix">
          <h2>
            {product.title}, and{' '}
            <select aria-label="related product" value={related} onChange={(e) => setRelated(Number(e.target.value))}>
              {product.related.map((r, i) => (
                <option key={`${r.relation} ${r.other}`} value={i}>
                  what it{' '}
                  {kebab(r.relation) === 'peer'
                    ? 'is a peer of'
                    : kebab(r.relation) === 'inside'
                      ? 'is inside of'
                      : kebab(r.relation).replace('-', ' ')}
                  : {r.other}
                </option>
              ))}
            </select>
          </h2>
          {matrix.data && (
            <MatrixChart
              key={`${product.id} ${String(related)}`}
              matrix={matrix.data}
              ends={endsOf(matrix.data, plan.data?.plan.moves ?? [])}
            />
          )}
        </section>
      )}
    </>
  );
}
