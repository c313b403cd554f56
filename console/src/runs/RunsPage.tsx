import { Button, Select } from '@mantine/core';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { Lines, type Column } from '../parts/Lines';
import { Loaded } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { Share } from '../parts/Share';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { listed } from '../shared/client';
import type { RunLine } from '../shared/shapes';
import { span } from '../shared/times';
import { words } from '../shared/words';

const took = (r: RunLine) => (r.started && r.ended ? (Date.parse(r.ended) - Date.parse(r.started)) / 1000 : undefined);

const columns: Column<RunLine>[] = [
  {
    id: 'run',
    head: 'Run',
    value: (r) => r.label || r.run,
    cell: (r) => (
      <>
        <Link to={`/runs/${r.run}`}>{r.label || r.run}</Link> <span className="id">{r.label && r.run}</span>
      </>
    ),
  },
  {
    id: 'state',
    head: 'State',
    value: (r) => (r.setAside ? 'set aside' : words(r.status)),
    cell: (r) =>
      r.setAside ? (
        <span title={r.setAside}>
          <State of="set-aside" />
        </span>
      ) : (
        <State of={r.status} />
      ),
  },
  { id: 'share', head: 'Steps done', value: (r) => r.share, cell: (r) => <Share of={r.share} /> },
  { id: 'kind', head: 'Kind', value: (r) => r.kind },
  {
    id: 'started',
    head: 'Started',
    value: (r) => r.started,
    cell: (r) => (r.started ? <When at={r.started} /> : <span className="soft">not yet</span>),
  },
  {
    id: 'took',
    head: 'Took',
    right: true,
    value: took,
    cell: (r) => {
      const t = took(r);
      return t === undefined ? '' : span(t);
    },
  },
  { id: 'opened', head: 'Opened', value: (r) => r.opened, cell: (r) => <When at={r.opened} />, spare: true },
  { id: 'by', head: 'By', value: (r) => r.by },
];

const states = [
  ['', 'All states'],
  ['open', 'Not ended'],
  ['halted', 'Halted'],
  ['waiting', 'Waiting'],
  ['completed', 'Completed'],
  ['returned', 'Returned'],
  ['stopped-here', 'Stopped here'],
] as const;

/** Every run there was, searched by what people remember it by; two of them compared. */
export function RunsPage() {
  const [asked, setAsked] = useSearchParams();
  const [most, setMost] = useState(200);
  const state = asked.get('state') ?? '';
  const runs = useQuery({
    queryKey: ['runs', most, state],
    queryFn: () => listed('/api/runs', { limit: Math.min(most, 500), state }, most),
    placeholderData: keepPreviousData,
    refetchInterval: 5000,
  });
  const go = useNavigate();
  return (
    <>
      <PageHead
        title="Runs"
        actions={
          <Button component={Link} to="/plans">
            Open a run of a plan
          </Button>
        }
      />
      <Panel label="runs">
        <Loaded query={runs} what="the runs">
          {({ lines, more }) => (
            <Lines
              name="runs"
              rows={lines}
              columns={columns}
              keyOf={(r) => r.run}
              empty={state ? 'No run stands so.' : 'No run yet. Make a plan, and open a run of it.'}
              height="calc(100vh - 13rem)"
              tools={
                <Select
                  aria-label="state"
                  data={states.map(([value, label]) => ({ value, label }))}
                  value={state}
                  w={130}
                  onChange={(value) =>
                    setAsked((was) => {
                      if (value) was.set('state', value);
                      else was.delete('state');
                      return was;
                    })
                  }
                />
              }
              choose={{
                can: () => true,
                acts: (chosen) =>
                  chosen.length === 2 ? (
                    <Button
                      variant="default"
                      onClick={() => {
                        const [later, earlier] = chosen.toSorted((a, b) => b.opened.localeCompare(a.opened));
                        void go(`/runs/${later?.run ?? ''}/compared?from=${earlier?.run ?? ''}`);
                      }}
                    >
                      Compare these two
                    </Button>
                  ) : (
                    <span className="soft">choose two to compare</span>
                  ),
              }}
              more={
                more && (
                  <p>
                    <Button variant="subtle" onClick={() => setMost(most + 500)}>
                      Older runs
                    </Button>
                  </p>
                )
              }
            />
          )}
        </Loaded>
      </Panel>
    </>
  );
}
