import { Modal, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { useNavigate } from 'react-router';
import { api, listed, told } from '../shared/client';
import { useComponents, useProducts } from '../shared/queries';
import { short } from '../shared/words';
import { found, type Place } from './places';

const pages: Place[] = [
  { kind: 'page', title: 'Now', to: '/' },
  { kind: 'page', title: 'Estate', to: '/estate' },
  { kind: 'page', title: 'Map of relations', to: '/estate/map' },
  { kind: 'page', title: 'Documents', to: '/documents' },
  { kind: 'page', title: 'Catalogue', to: '/catalogue' },
  { kind: 'page', title: 'Plans', to: '/plans' },
  { kind: 'page', title: 'A new plan', to: '/plans/new' },
  { kind: 'page', title: 'Runs', to: '/runs' },
  { kind: 'page', title: 'Rollback points', to: '/points' },
  { kind: 'page', title: 'Follow-ups', to: '/follow-ups' },
  { kind: 'page', title: 'Artefacts', to: '/artefacts' },
  { kind: 'page', title: 'Notices', to: '/notices' },
  { kind: 'page', title: 'Service', to: '/service' },
];

/** Everything that has a page, by words of its name; chosen with the arrow keys. */
export function Search({ opened, onClose }: { opened: boolean; onClose: () => void }) {
  return (
    <Modal opened={opened} onClose={onClose} title="Search" yOffset="10vh" centered={false}>
      {opened && <Finder onClose={onClose} />}
    </Modal>
  );
}

function Finder({ onClose }: { onClose: () => void }) {
  const [text, setText] = useState('');
  const [at, setAt] = useState(0);
  const [asked] = useDebouncedValue(text.trim(), 200);
  const go = useNavigate();
  const components = useComponents();
  const products = useProducts();
  const plans = useQuery({ queryKey: ['plans', 'search'], queryFn: () => listed('/api/plans', { limit: 200 }, 200) });
  const runs = useQuery({
    queryKey: ['runs', 'search', asked],
    queryFn: () => listed('/api/runs', { search: asked, limit: 20 }, 20),
    // What is first stays first while more is typed: who presses Enter means what they see.
    placeholderData: keepPreviousData,
  });
  const members = useQuery({
    queryKey: ['members', 'search', asked],
    queryFn: () => told(api.GET('/api/members', { params: { query: { text: asked, limit: 8 } } })),
    enabled: asked.length > 1,
    retry: false,
    placeholderData: keepPreviousData,
  });
  const places = useMemo<Place[]>(
    () => [
      ...(runs.data?.lines ?? []).map((r) => ({
        kind: 'run',
        title: r.label || r.run,
        beside: r.run,
        to: `/runs/${r.run}`,
        sure: !runs.isPlaceholderData,
      })),
      ...(components.data ?? []).map((c) => ({
        kind: 'component',
        title: c.component,
        beside: c.product,
        to: `/estate?component=${encodeURIComponent(c.component)}`,
      })),
      ...(plans.data?.lines ?? []).map((p) => ({
        kind: 'plan',
        title: p.goal.join('; '),
        beside: short(p.digest),
        to: `/plans/${encodeURIComponent(p.digest)}`,
      })),
      ...(products.data ?? []).map((p) => ({ kind: 'product', title: p.title ?? p.id, beside: p.id, to: `/catalogue/${p.id}` })),
      ...pages,
      ...(members.data?.members ?? []).map((m) => ({
        kind: 'member',
        title: m.member,
        beside: m.running,
        to: `/estate?component=${encodeURIComponent(m.member.split('/')[0] ?? '')}&member=${encodeURIComponent(m.member)}`,
        sure: !members.isPlaceholderData,
      })),
    ],
    [runs.data, runs.isPlaceholderData, components.data, plans.data, products.data, members.data, members.isPlaceholderData],
  );
  const shown = found(places, text, 14);
  const take = (place: Place | undefined) => {
    if (!place) return;
    onClose();
    void go(place.to);
  };
  return (
    <>
      <TextInput
        aria-label="search everything"
        placeholder="A run, component, plan, product, member or page"
        value={text}
        data-autofocus
        size="md"
        role="combobox"
        aria-expanded="true"
        aria-controls="found"
        aria-activedescendant={shown[at] ? `found-${String(at)}` : undefined}
        onChange={(e) => {
          setText(e.currentTarget.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          const by = { ArrowDown: 1, ArrowUp: -1 }[e.key];
          if (by !== undefined) {
            e.preventDefault();
            setAt(Math.min(Math.max(0, at + by), shown.length - 1));
          }
          if (e.key === 'Enter') take(shown[at]);
        }}
      />
      <ul className="plain found" id="found" role="listbox" aria-label="found">
        {shown.map((p, i) => (
          <li
            key={p.kind + p.to}
            id={`found-${String(i)}`}
            role="option"
            aria-selected={i === at}
            onMouseEnter={() => setAt(i)}
            onClick={() => take(p)}
          >
            <span className="soft found-kind">{p.kind}</span> {p.title} <span className="id">{p.beside}</span>
          </li>
        ))}
      </ul>
      {shown.length === 0 && <p className="empty">Nothing has these words in its name.</p>}
    </>
  );
}
