import { Button, Select, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useDeferredValue } from 'react';
import { Link, useSearchParams } from 'react-router';
import { Act } from '../parts/Act';
import { Loaded, Trouble } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { api, told } from '../shared/client';
import { useComponents, useDrift } from '../shared/queries';
import type { ComponentSummary } from '../shared/shapes';
import { count } from '../shared/times';
import './estate.css';
import { MemberPanel } from './MemberPanel';
import { MemberTable } from './MemberTable';
import { bySite, standings, troubles } from './model';
import { OutOfLine } from './OutOfLine';
import { VersionBar } from './VersionBar';

const everies = [
  ['', 'never by itself'],
  ['PT1H', 'every hour'],
  ['PT6H', 'every 6 h'],
  ['P1D', 'every day'],
] as const;
const written: Record<string, string> = { PT1H: '1 h', PT6H: '6 h', P1D: '24 h' };

/** What runs where: every component at a glance, every member within reach, and all that was read of one. What is looked at stands in the address. */
export function EstatePage() {
  const [asked, setAsked] = useSearchParams();
  const components = useComponents();
  const drift = useDrift();
  const component = asked.get('component') || undefined;
  const member = asked.get('member') || undefined;
  const text = asked.get('text') ?? '';
  const standing = asked.get('standing') ?? '';
  const outOfLine = asked.get('view') === 'out-of-line';
  const deferred = useDeferredValue(text);
  const put = (values: Record<string, string | undefined>) =>
    setAsked(
      (was) => {
        for (const [key, value] of Object.entries(values))
          if (value) was.set(key, value);
          else was.delete(key);
        return was;
      },
      { replace: true },
    );
  const all = components.data ?? [];
  const sum = (of: (c: ComponentSummary) => number) => count(all.reduce((n, c) => n + of(c), 0));
  return (
    <>
      <PageHead title="Estate" actions={<Surveys component={component} />}>
        {components.data && (
          <span className="soft">
            {sum((c) => c.members)} members, {sum((c) => c.inService)} in service, {sum((c) => c.notRead)} not read, {sum((c) => c.owing)}{' '}
            owing a restart
          </span>
        )}
      </PageHead>
      <Loaded query={components} what="the components">
        {(lines) => (
          <div className="estate-columns">
            <nav className="panel component-list" aria-label="components">
              <button
                type="button"
                className="bare component-line"
                aria-pressed={!component}
                onClick={() => put({ component: undefined, member: undefined })}
              >
                <b>All components</b>
              </button>
              {bySite(lines).map(([site, its]) => (
                <div key={site}>
                  <h3>{site}</h3>
                  {its.map((c) => (
                    <button
                      type="button"
                      key={c.component}
                      className="bare component-line"
                      aria-pressed={component === c.component}
                      onClick={() => put({ component: c.component, member: undefined, view: undefined })}
                    >
                      <span>{c.component}</span>
                      <span>{c.versions.map((v) => v.version).join(', ') || 'not known'}</span>
                      <VersionBar of={c} />
                      {troubles(c).length > 0 && <span className="warn trouble">{troubles(c).join(', ')}</span>}
                    </button>
                  ))}
                </div>
              ))}
            </nav>
            <div className="stack">
              <div className="lines-tools">
                <Button.Group>
                  <Button variant={outOfLine ? 'default' : 'filled'} aria-pressed={!outOfLine} onClick={() => put({ view: undefined })}>
                    Members
                  </Button>
                  <Button variant={outOfLine ? 'filled' : 'default'} aria-pressed={outOfLine} onClick={() => put({ view: 'out-of-line' })}>
                    Out of line {drift.data?.length}
                  </Button>
                </Button.Group>
                {!outOfLine && (
                  <>
                    <TextInput
                      aria-label="narrow by name or version"
                      placeholder="Name or version"
                      value={text}
                      onChange={(e) => put({ text: e.currentTarget.value })}
                    />
                    <Select
                      aria-label="standing"
                      w={200}
                      value={standing}
                      data={standings.map(([value, label]) => ({ value, label }))}
                      onChange={(v) => put({ standing: v ?? undefined })}
                    />
                  </>
                )}
                <span className="end">
                  <Link to={component ? `/estate/map?component=${encodeURIComponent(component)}` : '/estate/map'}>On the map</Link>
                </span>
              </div>
              {outOfLine ? (
                <Panel label="out of line" title="Out of line">
                  <Loaded query={drift} what="what stands out of line">
                    {(d) => (d.length > 0 ? <OutOfLine differences={d} /> : <p className="soft">Nothing stands out of line.</p>)}
                  </Loaded>
                </Panel>
              ) : (
                <>
                  <MemberTable filter={{ component, text: deferred.trim(), standing }} chosen={member} choose={(m) => put({ member: m })} />
                  {member && <MemberPanel key={member} member={member} />}
                </>
              )}
            </div>
          </div>
        )}
      </Loaded>
    </>
  );
}

/** Surveys: now, of everything or of what is looked at, and how often by themselves. */
function Surveys({ component }: { component?: string }) {
  const cache = useQueryClient();
  const schedule = useQuery({ queryKey: ['schedule'], queryFn: () => told(api.GET('/api/surveys/schedule')), retry: false });
  const survey = useMutation({
    mutationFn: () => told(api.POST('/api/surveys', { params: { query: { component } } })),
    onSuccess: () =>
      void Promise.all(
        ['components', 'members', 'member', 'drift', 'estate'].map((queryKey) => cache.invalidateQueries({ queryKey: [queryKey] })),
      ),
  });
  const progress = useQuery({
    queryKey: ['surveying'],
    queryFn: async () => (await told(api.GET('/api/surveys/current'))) ?? null,
    enabled: survey.isPending,
    refetchInterval: 500,
  });
  const every = useMutation({
    mutationFn: (chosen: string) => told(api.PUT('/api/surveys/schedule', { body: { every: written[chosen] ?? '' } })),
    onSuccess: () => void schedule.refetch(),
  });
  return (
    <>
      <Trouble of={survey.error ?? every.error} />
      <span className="soft">surveyed</span>
      <Select
        aria-label="surveyed by itself"
        w={130}
        value={schedule.data?.every ?? ''}
        data={everies.map(([value, label]) => ({ value, label }))}
        onChange={(v) => every.mutate(v ?? '')}
      />
      <Act call="POST /api/surveys" disabled={survey.isPending} onClick={() => survey.mutate()}>
        {survey.isPending
          ? `Reading ${progress.data ? `${String(progress.data.read)} of ${String(progress.data.all)}` : ''} …`
          : component
            ? `Survey ${component}`
            : 'Survey everything'}
      </Act>
    </>
  );
}
