import { ActionIcon, Button, Checkbox, Select, TextInput } from '@mantine/core';
import { DateInput } from '@mantine/dates';
import '@mantine/dates/styles.css';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { Act } from '../parts/Act';
import { Loaded, Trouble } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { api, told } from '../shared/client';
import { useEstate, useProducts } from '../shared/queries';
import type { Estate, Product } from '../shared/shapes';
import { asks, byProduct, choicesOf, emptyDraft, goalDocument, withWish, type Draft } from './goal';
import { PathReport } from './PathReport';
import './plans.css';
import { SearchStanding } from './SearchStanding';

/** A goal put together by search and choice, the path to it, and the plan of that path. */
export function GoalPage() {
  const estate = useEstate();
  const products = useProducts();
  const [draft, setDraft] = useState(emptyDraft);
  const go = useNavigate();
  const cache = useQueryClient();
  const goal = goalDocument(draft);
  const path = useMutation({
    mutationFn: (search: string) => told(api.POST('/api/paths', { body: { goal, name: 'the goal', search } })),
  });
  const make = useMutation({
    mutationFn: () => told(api.POST('/api/plans', { body: { goal, name: 'the goal' } })),
    onSuccess: (kept) => {
      void cache.invalidateQueries({ queryKey: ['plans'] });
      void go(`/plans/${encodeURIComponent(kept.digest)}`);
    },
  });
  const change = (next: Draft) => {
    setDraft(next);
    path.reset();
  };
  return (
    <>
      <PageHead
        title="A new plan"
        actions={
          <>
            <Act
              call="POST /api/paths"
              variant={path.data?.found ? 'default' : 'filled'}
              disabled={!asks(draft)}
              loading={path.isPending}
              onClick={() => path.mutate(crypto.randomUUID())}
            >
              Find the path
            </Act>
            <Act
              call="POST /api/plans"
              disabled={!path.data?.found || path.data.alreadyMet}
              loading={make.isPending}
              onClick={() => make.mutate()}
            >
              Make the plan
            </Act>
          </>
        }
      />
      <Trouble of={path.error ?? make.error} />
      {path.isPending && <SearchStanding id={path.variables} />}
      <div className="stack">
        {path.data && <PathReport path={path.data} />}
        <Loaded query={estate} what="the estate">
          {(e) => (
            <Loaded query={products} what="the catalogue">
              {(p) => (
                <div className="wide-right">
                  <Choose estate={e} products={p} draft={draft} onChange={change} />
                  <Goal estate={e} products={p} draft={draft} onChange={change} />
                </div>
              )}
            </Loaded>
          )}
        </Loaded>
      </div>
    </>
  );
}

interface Props {
  estate: Estate;
  products: Product[];
  draft: Draft;
  onChange: (draft: Draft) => void;
}

/** What there is, narrowed by a word; a component goes into the goal by one click, all of a product by another. */
function Choose({ estate, products, draft, onChange }: Props) {
  const [text, setText] = useState('');
  const wished = new Set(draft.wishes.map((w) => w.component));
  return (
    <Panel label="components" title="What shall be upgraded?">
      <TextInput
        aria-label="search components"
        placeholder="A component or product"
        value={text}
        onChange={(e) => setText(e.currentTarget.value)}
      />
      <div className="choose" tabIndex={0} role="region" aria-label="list of components">
        {byProduct(estate, products, text).map(({ product, components }) => (
          <div key={product.id}>
            <h3>
              {product.title ?? product.id}{' '}
              {components.length > 1 && (
                <Button
                  variant="subtle"
                  size="compact-xs"
                  aria-label={`add all of ${product.title ?? product.id}`}
                  disabled={components.every((c) => wished.has(c.component))}
                  onClick={() =>
                    onChange(
                      withWish(
                        draft,
                        components.map((c) => c.component).filter((c) => !wished.has(c)),
                        '',
                      ),
                    )
                  }
                >
                  add all
                </Button>
              )}
            </h3>
            <ul className="plain">
              {components.map((c) => (
                <li key={c.component} className="with-button">
                  <span>
                    {c.component} <span className="soft">{c.versions}</span>
                  </span>
                  <Button
                    variant="default"
                    size="compact-xs"
                    aria-label={`add ${c.component}`}
                    disabled={wished.has(c.component)}
                    onClick={() => onChange(withWish(draft, [c.component], ''))}
                  >
                    {wished.has(c.component) ? 'in the goal' : 'Add'}
                  </Button>
                </li>
              ))}
            </ul>
          </div>
        ))}
      </div>
    </Panel>
  );
}

/** The goal as it stands: each component with its release, what stays put, and what may be relied on. */
function Goal({ estate, products, draft, onChange }: Props) {
  const productOf = (component: string) => {
    const id = estate.components.find((c) => c.component === component)?.product;
    return products.find((p) => p.id === id);
  };
  const free = estate.components.filter((c) => !draft.wishes.some((w) => w.component === c.component) && !draft.pins.includes(c.component));
  return (
    <Panel label="goal" title="The goal">
      {draft.wishes.length === 0 && draft.supportedAt === '' && (
        <p className="soft">
          Add components from the list and say what each shall be at; or name a day on which everything shall still be supported.
        </p>
      )}
      {draft.wishes.length > 0 && (
        <table className="lines">
          <thead>
            <tr>
              <th>Component</th>
              <th>Runs</th>
              <th>Shall be at</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {draft.wishes.map((w) => {
              const product = productOf(w.component);
              const same = draft.wishes.filter((o) => productOf(o.component)?.id === product?.id).map((o) => o.component);
              return (
                <tr key={w.component}>
                  <td>{w.component}</td>
                  <td>{estate.components.find((c) => c.component === w.component)?.versions}</td>
                  <td>
                    <span style={{ display: 'flex', gap: '0.4rem', alignItems: 'center' }}>
                      <Select
                        aria-label={`${w.component} shall be at`}
                        placeholder="choose a release"
                        searchable
                        w={220}
                        data={product ? choicesOf(product) : []}
                        value={w.release || null}
                        onChange={(release) => onChange(withWish(draft, [w.component], release ?? ''))}
                      />
                      {w.release !== '' && same.some((c) => draft.wishes.find((o) => o.component === c)?.release !== w.release) && (
                        <Button variant="subtle" size="compact-xs" onClick={() => onChange(withWish(draft, same, w.release))}>
                          for all of {product?.title ?? 'it'}
                        </Button>
                      )}
                    </span>
                  </td>
                  <td className="n">
                    <ActionIcon
                      variant="subtle"
                      size="sm"
                      aria-label={`take ${w.component} out`}
                      onClick={() => onChange({ ...draft, wishes: draft.wishes.filter((o) => o.component !== w.component) })}
                    >
                      ✕
                    </ActionIcon>
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      )}
      <div className="goal-options">
        <DateInput
          label="Or: everything supported on"
          placeholder="a day"
          size="xs"
          w={210}
          clearable
          valueFormat="YYYY-MM-DD"
          value={draft.supportedAt || null}
          onChange={(day) => onChange({ ...draft, supportedAt: day ?? '', wishes: [] })}
        />
        <Select
          label="Stays put"
          placeholder="add a component"
          searchable
          w={210}
          value={null}
          data={free.map((c) => c.component)}
          onChange={(c) => c && onChange({ ...draft, pins: [...draft.pins, c] })}
        />
        <Checkbox
          label="Pairs that nobody has tested may be relied on"
          checked={draft.allowUntested}
          onChange={() => onChange({ ...draft, allowUntested: !draft.allowUntested })}
        />
      </div>
      {draft.pins.length > 0 && (
        <p>
          Stay put:{' '}
          {draft.pins.map((p) => (
            <Button
              key={p}
              variant="default"
              size="compact-xs"
              aria-label={`let ${p} move again`}
              onClick={() => onChange({ ...draft, pins: draft.pins.filter((o) => o !== p) })}
              mr={6}
            >
              {p} ✕
            </Button>
          ))}
        </p>
      )}
    </Panel>
  );
}
