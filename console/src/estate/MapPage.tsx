import { Button, Select } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useEffect, useMemo, useRef } from 'react';
import { Link, useSearchParams } from 'react-router';
import { Loaded } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { api, told } from '../shared/client';
import { useComponents, useOpenRuns } from '../shared/queries';
import type { ComponentSummary } from '../shared/shapes';
import { words } from '../shared/words';
import './estate.css';
import { box, layout } from './layout';
import { goesOutWith, reach, type Edge } from './relations';

/** What depends on what, site by site; of a chosen component what it leans on and what goes out with it; and where a run is at work. */
export function MapPage() {
  const [asked, setAsked] = useSearchParams();
  const chosen = asked.get('component') || undefined;
  const components = useComponents();
  const relations = useQuery({ queryKey: ['relations'], queryFn: () => told(api.GET('/api/estate/relations')), retry: false });
  const choose = (component: string | undefined) =>
    setAsked(
      (was) => {
        if (component) was.set('component', component);
        else was.delete('component');
        return was;
      },
      { replace: true },
    );
  return (
    <>
      <PageHead
        title="Map of relations"
        actions={
          <>
            <Select
              aria-label="component"
              placeholder="Choose a component"
              searchable
              clearable
              w={220}
              data={(components.data ?? []).map((c) => c.component)}
              value={chosen ?? null}
              onChange={(c) => choose(c ?? undefined)}
            />
            {chosen && (
              <Button component={Link} variant="default" to={`/estate?component=${encodeURIComponent(chosen)}`}>
                Its members
              </Button>
            )}
          </>
        }
      />
      <Loaded query={components} what="the components">
        {(c) => (
          <Loaded query={relations} what="the relations">
            {(e) => <Map components={c} edges={e} chosen={chosen} choose={choose} />}
          </Loaded>
        )}
      </Loaded>
    </>
  );
}

function Map({
  components,
  edges,
  chosen,
  choose,
}: {
  components: ComponentSummary[];
  edges: Edge[];
  chosen?: string;
  choose: (component: string | undefined) => void;
}) {
  const shape = components.map((c) => c.component).join(' ');
  // The versions of a component change without its place.
  // eslint-disable-next-line react-hooks/exhaustive-deps
  const drawn = useMemo(() => layout(components, edges), [shape, edges]);
  const busy = useBusy();
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    place.current?.querySelector('[aria-pressed="true"]')?.scrollIntoView({ block: 'nearest', inline: 'nearest' });
  }, [chosen, drawn]);
  const out = chosen ? goesOutWith(edges, chosen) : new Set<string>();
  const up = chosen ? reach(edges, chosen, 'up') : new Set<string>();
  const down = chosen ? reach(edges, chosen, 'down') : new Set<string>();
  const near = (c: string) => !chosen || c === chosen || up.has(c) || down.has(c);
  const byName = new globalThis.Map(components.map((c) => [c.component, c]));
  return (
    <div className="stack">
      <Panel label="relations">
        <div className="map-scroll" ref={place} tabIndex={0} role="region" aria-label="map">
          <svg
            width={drawn.width}
            height={drawn.height}
            role="group"
            aria-label={`${String(components.length)} components and ${String(edges.length)} relations`}
          >
            {drawn.sites.map((s) => (
              <g key={s.site}>
                <rect className="map-site" x={s.x - s.width / 2} y={s.y - s.height / 2} width={s.width} height={s.height} rx={4} />
                <text className="map-site-name" x={s.x - s.width / 2 + 8} y={s.y - s.height / 2 - 5}>
                  {s.site}
                </text>
              </g>
            ))}
            {drawn.edges.map(({ edge, path }) => (
              <path
                key={`${edge.from} ${edge.relation} ${edge.to}`}
                className={`map-edge map-${edge.relation}${near(edge.from) && near(edge.to) ? '' : ' far'}${edge.optional ? ' optional' : ''}`}
                d={path}
              >
                <title>{`${edge.from} ${words(edge.relation)} ${edge.to}${edge.optional ? ', and serves on without it' : ''}`}</title>
              </path>
            ))}
            {drawn.nodes.map((n) => {
              const c = byName.get(n.component);
              const version = c?.versions.map((v) => v.version).join(', ') ?? '';
              const mark = n.component === chosen ? ' chosen' : out.has(n.component) ? ' out' : near(n.component) ? '' : ' far';
              return (
                <g
                  key={n.component}
                  className={`map-node${mark}${busy.has(n.component) ? ' busy' : ''}`}
                  transform={`translate(${String(n.x - box.width / 2)} ${String(n.y - box.height / 2)})`}
                  role="button"
                  tabIndex={0}
                  aria-pressed={n.component === chosen}
                  aria-label={`${n.component} ${version}${out.has(n.component) ? `, goes out with ${chosen ?? ''}` : ''}${busy.has(n.component) ? ', a run is at work' : ''}`}
                  onClick={() => choose(n.component === chosen ? undefined : n.component)}
                  onKeyDown={(e) => {
                    if (e.key !== 'Enter' && e.key !== ' ') return;
                    e.preventDefault();
                    choose(n.component === chosen ? undefined : n.component);
                  }}
                >
                  <rect width={box.width} height={box.height} rx={3} />
                  <text x={8} y={15}>
                    {n.component.length > 19 ? `${n.component.slice(0, 18)}…` : n.component}
                  </text>{' '}
                  <text x={8} y={29} className="version">
                    {version.length > 20 ? `${version.slice(0, 19)}…` : version}
                  </text>
                  {busy.has(n.component) && <path className="map-busy" d="M117 9l10 5.5-10 5.5Z" />}
                </g>
              );
            })}
          </svg>
        </div>
        <p className="soft">
          What stands above leans on what lies below. Full lines: needed; dashed: served on without; dotted: peers.{' '}
          {busy.size > 0 && '▶ a run is at work there. '}
          {!chosen && 'Choose a component to see what goes out with it.'}
        </p>
      </Panel>
      {chosen && (
        <div className="halves">
          <Named
            title={`Goes out of service with ${chosen}`}
            label="goes out"
            names={[...out]}
            none="Nothing: whatever leans on it serves on."
            choose={choose}
          />
          <Named title={`${chosen} leans on`} label="leans on" names={[...down]} none="Nothing." choose={choose} />
        </div>
      )}
    </div>
  );
}

function Named({
  title,
  label,
  names,
  none,
  choose,
}: {
  title: string;
  label: string;
  names: string[];
  none: string;
  choose: (c: string) => void;
}) {
  return (
    <Panel label={label} title={title}>
      {names.length === 0 && <p className="soft">{none}</p>}
      {names.toSorted().map((n) => (
        <Button key={n} variant="default" size="compact-sm" mr={6} mb={6} onClick={() => choose(n)}>
          {n}
        </Button>
      ))}
    </Panel>
  );
}

/** The components that a run has out or is changing just now. */
function useBusy(): Set<string> {
  const open = useOpenRuns();
  const working = (open.data?.lines ?? []).filter((r) => ['running', 'halted', 'holding', 'held', 'returning'].includes(r.status));
  const views = useQuery({
    queryKey: ['busy', working.map((r) => r.run)],
    queryFn: () =>
      Promise.all(
        working
          .slice(0, 8)
          .map((r) => told(api.GET('/api/runs/{run}', { params: { path: { run: r.run }, query: { lanes: 'current', most: 200 } } }))),
      ),
    enabled: working.length > 0,
    refetchInterval: 3000,
  });
  const busy = new Set<string>();
  if (working.length > 0)
    for (const run of views.data ?? [])
      for (const lane of run.blocks.find((b) => b.number === run.currentBlock)?.lanes ?? []) busy.add(lane.subject.split('/')[0] ?? '');
  return busy;
}
