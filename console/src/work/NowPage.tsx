import { Button } from '@mantine/core';
import { keepPreviousData, useQueries, useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { Loaded } from '../parts/Loaded';
import { Fact, Facts, PageHead, Panel } from '../parts/Panel';
import { Share } from '../parts/Share';
import { forecastOf } from '../runs/forecast';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { api, listed, told } from '../shared/client';
import { useComponents, useDrift, useEstate, useFollowUps, useOpenRuns } from '../shared/queries';
import type { Run } from '../shared/shapes';
import { ago, many, moment, until } from '../shared/times';
import { useNow } from '../shared/useNow';
import { words } from '../shared/words';
import { FirstSteps } from './FirstSteps';
import { awaited, risks, type Awaited } from './now';

/** What runs, what waits for a person and for whom, what is due and what is at risk; one click to each. */
export function NowPage() {
  const estate = useEstate();
  const components = useComponents();
  const now = useNow(10_000);
  const open = useOpenRuns();
  const drift = useDrift();
  const followUps = useFollowUps();
  const library = useQuery({
    queryKey: ['artefacts'],
    queryFn: () => told(api.GET('/api/artefacts')),
    refetchInterval: 30_000,
    retry: false,
  });
  const runs = useQueries({
    queries: (open.data?.lines ?? [])
      .filter((r) => r.started && !r.setAside)
      .slice(0, 12)
      .map((r) => ({
        queryKey: ['run', r.run, 'now'],
        queryFn: () => told(api.GET('/api/runs/{run}', { params: { path: { run: r.run }, query: { lanes: 'current', most: 1 } } })),
        refetchInterval: 3000,
      })),
    combine: (all) => all.map((q) => q.data).filter((r): r is Run => r !== undefined),
  });
  // Asked anew as soon as a run stands otherwise, so that the list never says another thing than the panels above it.
  const recent = useQuery({
    queryKey: ['runs', 'recent', runs.map((r) => `${r.run} ${r.status}`).join()],
    queryFn: () => listed('/api/runs', { limit: 12 }, 12),
    refetchInterval: 5000,
    placeholderData: keepPreviousData,
  });
  if (estate.error) return <FirstSteps />;
  const waiting = awaited(runs);
  const atRisk = risks(components.data ?? [], drift.data ?? [], library.data, open.data?.lines ?? []);
  return (
    <>
      <PageHead
        title="Now"
        actions={
          <>
            <Button component={Link} to="/plans/new">
              Make a plan
            </Button>
          </>
        }
      >
        {estate.data && (
          <span className="soft">
            {estate.data.title}, {estate.data.class}; last read {estate.data.surveyed ? ago(estate.data.surveyed, now) : 'never'}
          </span>
        )}
      </PageHead>
      <div className="wide-left">
        <div className="stack">
          <Waits waiting={waiting} now={now} />
          {runs.length > 0 && (
            <Panel label="at work" title="At work">
              <div className="stack">
                {runs.map((r) => (
                  <AtWork key={r.run} run={r} now={now} />
                ))}
              </div>
            </Panel>
          )}
          <Panel label="runs" title="Recent runs" actions={<Link to="/runs">All runs</Link>}>
            <Loaded query={recent} what="the runs">
              {({ lines }) =>
                lines.length === 0 ? (
                  <p className="soft">
                    No run yet. <Link to="/plans/new">Make a plan</Link>, and open a run of it.
                  </p>
                ) : (
                  <table className="lines">
                    <thead>
                      <tr>
                        <th>Run</th>
                        <th>State</th>
                        <th>Steps done</th>
                        <th>Started</th>
                        <th>By</th>
                      </tr>
                    </thead>
                    <tbody>
                      {lines.map((r) => (
                        <tr key={r.run}>
                          <td>
                            <Link to={`/runs/${r.run}`}>{r.label || r.run}</Link> <span className="id">{r.label && r.run}</span>
                          </td>
                          <td>{r.setAside ? <State of="set-aside" /> : <State of={r.status} />}</td>
                          <td>
                            <Share of={r.share} />
                          </td>
                          <td>{r.started ? <When at={r.started} /> : <span className="soft">not yet</span>}</td>
                          <td className="nowrap">{r.by}</td>
                        </tr>
                      ))}
                    </tbody>
                  </table>
                )
              }
            </Loaded>
          </Panel>
        </div>
        <div className="stack">
          <Panel label="at risk" title="At risk">
            {atRisk.length === 0 ? (
              <p>
                <State of="good">Nothing stands out</State>
              </p>
            ) : (
              <ul className="plain stack-small">
                {atRisk.map((r) => (
                  <li key={r.what}>
                    <State of={r.state}>
                      <Link to={r.to}>{r.what}</Link>
                    </State>
                    {r.beside && <div className="soft">{r.beside}</div>}
                  </li>
                ))}
              </ul>
            )}
          </Panel>
          <Panel label="due" title="Left to be done" actions={<Link to="/follow-ups">All</Link>}>
            {followUps.data?.lines.length === 0 && <p className="soft">Nothing is left to be done.</p>}
            <ul className="plain stack-small">
              {followUps.data?.lines.slice(0, 6).map((f) => (
                <li key={f.run + f.id}>
                  <State of={Date.parse(f.due) < now ? 'overdue' : f.urgent ? 'caution' : 'due'}>{until(f.due, now)}</State>{' '}
                  <Link to={`/follow-ups?find=${encodeURIComponent(f.what)}`}>{f.what}</Link>
                  <div className="soft">
                    {f.owner ?? 'nobody’s yet'}; left by {f.label || f.run}
                  </div>
                </li>
              ))}
            </ul>
          </Panel>
          <Panel label="estate" title="Estate" actions={<Link to="/estate">Open</Link>}>
            {components.data && (
              <Facts>
                <Fact name="Components">{components.data.length}</Fact>
                <Fact name="Members">{components.data.reduce((n, c) => n + c.members, 0).toLocaleString('en-GB')}</Fact>
                <Fact name="In service">{components.data.reduce((n, c) => n + c.inService, 0).toLocaleString('en-GB')}</Fact>
                <Fact name="Mixed">{components.data.filter((c) => c.versions.length > 1).length}</Fact>
              </Facts>
            )}
          </Panel>
        </div>
      </div>
    </>
  );
}

function Waits({ waiting, now }: { waiting: Awaited[]; now: number }) {
  return (
    <Panel label="waits for a person" title="Waits for a person" tone={waiting.some((w) => w.state === 'halted') ? 'alarm' : undefined}>
      {waiting.length === 0 ? (
        <p>
          <State of="good">No run waits for anybody</State>
        </p>
      ) : (
        <ul className="plain stack-small">
          {waiting.map((w) => (
            <li key={w.key}>
              <State of={w.state} strong>
                <Link to={w.to}>{w.what}</Link>
              </State>
              <div className="soft">
                {w.who}
                {w.since && `, since ${moment(w.since, now)}`}
              </div>
            </li>
          ))}
        </ul>
      )}
    </Panel>
  );
}

function AtWork({ run, now }: { run: Run; now: number }) {
  const end = forecastOf(run, now);
  const block = run.blocks.find((b) => b.number === run.currentBlock);
  return (
    <div>
      <div>
        <Link to={`/runs/${run.run}`}>
          <b>{run.label || run.run}</b>
        </Link>{' '}
        <State of={run.status} />
      </div>
      <Facts>
        <Fact name="Steps done">
          <Share of={run.share} />
        </Fact>
        <Fact name="Part">{block ? `${String(block.number)} of ${String(run.blocks.length)}, ${block.title}` : 'none begun'}</Fact>
        <Fact name="Forecast end">
          {end ? `${moment(end.at, now)} (${until(end.at, now)}${end.ifNow ? ', if decided now' : ''})` : 'not known'}
        </Fact>
        {block && block.componentsOut.length > 0 && <Fact name="Out of service">{block.componentsOut.join(', ')}</Fact>}
        {block && <Fact name="Return path">{words(block.return.state)}</Fact>}
        {run.persons.length > 0 && <Fact name="Waits for">{many(run.persons.length, 'person’s step', 'persons’ steps')}</Fact>}
      </Facts>
    </div>
  );
}
