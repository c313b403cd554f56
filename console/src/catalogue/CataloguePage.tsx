import { Button, Modal, Select } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { Loaded, Trouble } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { api, listed, now, told } from '../shared/client';
import { useProducts } from '../shared/queries';
import type { Product } from '../shared/shapes';
import { kebab, words } from '../shared/words';
import './catalogue.css';
import { MatrixChart } from './MatrixChart';
import { endsOf } from './ranges';
import { TableImport } from './TableImport';

/** What is known of a product: releases, jumps, and what its releases are to another product's. */
export function CataloguePage() {
  const products = useProducts();
  return (
    <Loaded query={products} what="the catalogue">
      {(all) => <Catalogue products={all} />}
    </Loaded>
  );
}

function Catalogue({ products }: { products: Product[] }) {
  const { product: id } = useParams();
  const go = useNavigate();
  const [importing, setImporting] = useState(false);
  const product = products.find((p) => p.id === id) ?? products.find((p) => p.related.length > 1) ?? products[0];
  if (!product)
    return (
      <>
        <PageHead title="Catalogue" />
        <p className="soft">
          No product is known yet. <Link to="/documents/product/new">Write the first one</Link>: its releases, its jumps, what it needs.
        </p>
      </>
    );
  return (
    <>
      <PageHead
        title={product.title ?? product.id}
        actions={
          <>
            <Select
              aria-label="product"
              searchable
              w={220}
              value={product.id}
              data={products.map((p) => ({ value: p.id, label: p.title ?? p.id }))}
              onChange={(v) => void go(`/catalogue/${v ?? ''}`)}
            />
            <Button variant="default" onClick={() => setImporting(true)}>
              Rules from a table …
            </Button>
            <Button component={Link} variant="default" to={`/documents/product/${encodeURIComponent(product.id)}`}>
              Its document
            </Button>
          </>
        }
      >
        <span className="id">{product.id}</span>
      </PageHead>
      <div className="stack">
        <div className="wide-left">
          <Releases product={product} />
          <Jumps product={product} />
        </div>
        {product.related.length > 0 && <Related key={product.id} product={product} />}
      </div>
      <Modal
        opened={importing}
        onClose={() => setImporting(false)}
        size="80vw"
        title={`Rules of ${product.title ?? product.id} from a table`}
        closeButtonProps={{ 'aria-label': 'close' }}
      >
        {importing && <TableImport product={product} products={products} />}
      </Modal>
    </>
  );
}

function Releases({ product }: { product: Product }) {
  const today = new Date(now()).toISOString().slice(0, 10);
  return (
    <Panel label="releases" title="Releases">
      <div className="lines-scroll catalogue-list" tabIndex={0} role="region" aria-label="list of releases">
        <table className="lines">
          <thead>
            <tr>
              <th>Release</th>
              <th>Line</th>
              <th>Since</th>
              <th>Supported to</th>
              <th>What changes</th>
            </tr>
          </thead>
          <tbody>
            {[...product.releases].reverse().map((r) => (
              <tr key={r.label}>
                <td>{r.label}</td>
                <td>{r.line && words(r.line)}</td>
                <td className="nowrap">{r.since ?? '-'}</td>
                <td className="nowrap">
                  {r.ends ? r.ends < today ? <State of="caution">{r.ends}, over</State> : r.ends : <span className="soft">not known</span>}
                </td>
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
      </div>
    </Panel>
  );
}

function Jumps({ product }: { product: Product }) {
  return (
    <Panel label="jumps" title="Jumps">
      {product.jumps.length === 0 && <p className="soft">No jump is known.</p>}
      <div className="lines-scroll catalogue-list" tabIndex={0} role="region" aria-label="list of jumps">
        <table className="lines">
          <thead>
            <tr>
              <th>To</th>
              <th>From</th>
              <th>By</th>
              <th>Asks for, closes</th>
            </tr>
          </thead>
          <tbody>
            {product.jumps.map((j) => (
              <tr key={j.id}>
                <td className="nowrap">
                  {j.to} {j.down && <span className="soft">down</span>}
                </td>
                <td className="nowrap">{j.from}</td>
                <td>{j.methods.map((m) => words(kebab(m))).join(', ')}</td>
                <td>
                  {[...j.requires.map((r) => `${r.product} ${r.range}`), ...(j.closes ? [`${j.closes} closes the return path`] : [])].join(
                    '; ',
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Panel>
  );
}

const relationWords = (relation: string) => ({ peer: 'is a peer of', inside: 'is inside of' })[kebab(relation)] ?? words(kebab(relation));

function Related({ product }: { product: Product }) {
  const [asked, setAsked] = useSearchParams();
  const related = Math.min(Number(asked.get('with') ?? 0), product.related.length - 1);
  const relation = product.related[related];
  const matrix = useQuery({
    queryKey: ['matrix', product.id, relation],
    queryFn: () =>
      told(
        api.GET('/api/catalogue/matrix', {
          params: { query: { product: product.id, other: relation?.other ?? '', relation: kebab(relation?.relation ?? '') } },
        }),
      ),
  });
  const plans = useQuery({ queryKey: ['plans', 'newest'], queryFn: () => listed('/api/plans', { limit: 50 }, 50) });
  const newest = plans.data?.lines.find((p) => p.kind === 'upgrade')?.digest;
  const plan = useQuery({
    queryKey: ['plan', newest],
    queryFn: () => told(api.GET('/api/plans/{digest}', { params: { path: { digest: newest ?? '' } } })),
    enabled: newest !== undefined,
  });
  return (
    <Panel
      label="matrix"
      title="Which versions may meet"
      actions={
        <Select
          aria-label="related product"
          w={300}
          value={String(related)}
          data={product.related.map((r, i) => ({ value: String(i), label: `what it ${relationWords(r.relation)}: ${r.other}` }))}
          onChange={(v) =>
            setAsked((was) => {
              was.set('with', v ?? '0');
              return was;
            })
          }
        />
      }
    >
      <Trouble of={matrix.error} />
      {matrix.data && (
        <MatrixChart
          key={`${product.id} ${String(related)}`}
          matrix={matrix.data}
          ends={endsOf(matrix.data, plan.data?.plan.moves ?? [])}
        />
      )}
    </Panel>
  );
}
