import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useDeferredValue, useState } from 'react';
import { OutOfLine, type Difference } from '../home/OutOfLine';
import { get, post, put } from '../shared/api';
import { Artefacts } from './Artefacts';
import './estate.css';
import { MemberPanel } from './MemberPanel';
import { MemberTable } from './MemberTable';
import { bySite, standings, troubles, type ComponentSummary, type Schedule } from './model';
import { VersionBar } from './VersionBar';

const everies = [
  ['', 'never by itself'],
  ['PT1H', 'every hour'],
  ['PT6H', 'every 6 h'],
  ['P1D', 'every day'],
] as const;
const written: Record<string, string> = { PT1H: '1 h', PT6H: '6 h', P1D: '24 h' };

/** What runs where: every component at a glance, every member within reach, and all that was read of one. */
export function EstatePage() {
  const cache = useQueryClient();
  const components = useQuery({
    queryKey: ['components'],
    queryFn: () => get<ComponentSummary[]>('/api/components'),
    refetchInterval: 15000,
  });
  const drift = useQuery({ queryKey: ['drift'], queryFn: () => get<Difference[]>('/api/estate/drift') });
  const schedule = useQuery({ queryKey: ['schedule'], queryFn: () => get<Schedule>('/api/surveys/schedule') });
  const [component, setComponent] = useState<string>();
  const [text, setText] = useState('');
  const [standing, setStanding] = useState('');
  const [member, setMember] = useState<string>();
  const [view, setView] = useState<'members' | 'out of line' | 'artefacts'>('members');
  const deferred = useDeferredValue(text);
  const refresh = () =>
    void Promise.all(
      ['components', 'members', 'member', 'drift', 'estate'].map((queryKey) => cache.invalidateQueries({ queryKey: [queryKey] })),
    );
  const survey = useMutation({
    mutationFn: () => post(component ? `/api/surveys?component=${encodeURIComponent(component)}` : '/api/surveys'),
    onSuccess: refresh,
  });
  const progress = useQuery({
    queryKey: ['surveying'],
    queryFn: () => get<{ read: number; all: number } | ''>('/api/surveys/current'),
    enabled: survey.isPending,
    refetchInterval: 500,
  });
  const every = useMutation({
    mutationFn: (chosen: string) => put('/api/surveys/schedule', { every: written[chosen] ?? null }),
    onSuccess: () => void schedule.refetch(),
  });
  const all = components.data ?? [];
  const sum = (of: (c: ComponentSummary) => number) => all.reduce((n, c) => n + of(c), 0);
  return (
    <>
      <div className="run-head">
        <h1>Estate</h1>
        {components.data && (
          <span className="soft">
            {sum((c) => c.members).toLocaleString('en-GB')} members, {sum((c) => c.inService).toLocaleString('en-GB')} in service,{' '}
            {sum((c) => c.notRead)} not read, {sum((c) => c.owing)} owing a restart
          </span>
        )}
        <span className="actions">
          <label>
            surveyed{' '}
            <select aria-label="surveyed by itself" value={schedule.data?.every ?? ''} onChange={(e) => every.mutate(e.target.value)}>
              {everies.map(([value, label]) => (
                <option key={value} value={value}>
                  {label}
                </option>
              ))}
            </select>
          </label>{' '}
          <button type="button" className="main" disabled={survey.isPending} onClick={() => survey.mutate()}>
            {survey.isPending
              ? `Reading ${progress.data ? `${String(progress.data.read)} of ${String(progress.data.all)}` : ''} …`
              : component
                ? `Survey ${component}`
                : 'Survey everything'}
          </button>
        </span>
      </div>
      {(components.error ?? survey.error ?? every.error) && (
        <p className="problem">{(components.error ?? survey.error ?? every.error)?.message}</p>
      )}
      <div className="estate-columns">
        <nav className="sheet component-list" aria-label="components">
          <button type="button" className="component-line" aria-pressed={component === undefined} onClick={() => setComponent(undefined)}>
            <b>all components</b>
          </button>
          {bySite(all).map(([site, its]) => (
            <div key={site}>
              <h2>{site}</h2>
              {its.map((c) => (
                <button
                  type="button"
                  key={c.component}
                  className="component-line"
                  aria-pressed={component === c.component}
                  onClick={() => {
                    setComponent(c.component);
                    setView('members');
                    setMember(undefined);
                  }}
                >
                  <span>{c.component}</span>
                  <span className="figures">{c.versions.map((v) => v.version).join(', ') || 'not known'}</span>
                  <VersionBar of={c} />
                  {troubles(c).length > 0 && <span className="trouble">{troubles(c).join(', ')}</span>}
                </button>
              ))}
            </div>
          ))}
        </nav>
        <div>
          <p className="filters">
            {(['members', 'out of line', 'artefacts'] as const).map((v) => (
              <button type="button" key={v} aria-pressed={view === v} onClick={() => setView(v)}>
                {v}
                {v === 'out of line' && drift.data && ` ${String(drift.data.length)}`}
              </button>
            ))}
            {view === 'members' && (
              <>
                <input
                  aria-label="narrow by name or version"
                  placeholder="name or version"
                  value={text}
                  onChange={(e) => setText(e.target.value)}
                />
                <select aria-label="standing" value={standing} onChange={(e) => setStanding(e.target.value)}>
                  {standings.map(([value, label]) => (
                    <option key={value} value={value}>
                      {label}
                    </option>
                  ))}
                </select>
              </>
            )}
          </p>
          {view === 'members' && (
            <>
              <MemberTable filter={{ component, text: deferred.trim(), standing }} chosen={member} choose={setMember} />
              {member && <MemberPanel key={member} member={member} />}
            </>
          )}
          {view === 'out of line' &&
            drift.data &&
            (drift.data.length > 0 ? <OutOfLine differences={drift.data} /> : <p>Nothing stands out of line.</p>)}
          {view === 'artefacts' && <Artefacts />}
        </div>
      </div>
    </>
  );
}
