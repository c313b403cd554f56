import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { Lines, type Column } from '../parts/Lines';
import { Loaded } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { listed } from '../shared/client';
import type { Point } from '../shared/shapes';
import { day, many, size } from '../shared/times';
import { words } from '../shared/words';
import { GiveUp } from './GiveUp';

const columns: Column<Point>[] = [
  {
    id: 'member',
    head: 'Member',
    value: (p) => p.member,
    cell: (p) => (
      <>
        {p.member} <span className="id">{p.id}</span>
      </>
    ),
  },
  { id: 'leads', head: 'Leads to', value: (p) => p.leadsTo },
  {
    id: 'state',
    head: 'State',
    value: (p) => words(p.state),
    cell: (p) => (
      <span title={p.why}>
        <State of={p.state}>{words(p.state)}</State>
      </span>
    ),
  },
  { id: 'until', head: 'Serves until', value: (p) => p.until, cell: (p) => (p.until ? day(p.until) : '') },
  {
    id: 'room',
    head: 'Takes',
    right: true,
    value: (p) => (p.takesRoom ? p.bytes : 0),
    cell: (p) => (p.takesRoom ? size(p.bytes) : 'nothing'),
  },
  { id: 'kind', head: 'Kind', value: (p) => p.kind, spare: true },
  { id: 'node', head: 'Node', value: (p) => p.node, spare: true },
  { id: 'place', head: 'Place', value: (p) => p.place, spare: true },
  { id: 'verified', head: 'Verified', value: (p) => p.verified, spare: true },
  { id: 'captured', head: 'Captured', value: (p) => p.capturedAt, cell: (p) => <When at={p.capturedAt} /> },
  { id: 'run', head: 'Run', value: (p) => p.label || p.run, cell: (p) => <Link to={`/runs/${p.run}`}>{p.label || p.run}</Link> },
];

/** Every rollback point there is: where it leads, whether it still serves, and what it takes; those that may go are given up here. */
export function PointsPage() {
  const points = useQuery({ queryKey: ['points'], queryFn: () => listed('/api/points', { limit: 500 }, 20_000) });
  const [giving, setGiving] = useState<{ points: Point[]; clear: () => void }>();
  return (
    <>
      <PageHead title="Rollback points">
        {points.data && (
          <span className="soft">
            {many(points.data.lines.filter((p) => p.takesRoom).length, 'point')} on nodes,{' '}
            {size(points.data.lines.filter((p) => p.takesRoom).reduce((n, p) => n + p.bytes, 0))} in all
          </span>
        )}
      </PageHead>
      <Panel label="rollback points">
        <Loaded query={points} what="the points">
          {({ lines }) => (
            <Lines
              name="points"
              rows={lines}
              columns={columns}
              keyOf={(p) => `${p.run}/${p.id}`}
              empty="No run has taken a rollback point yet. Runs take them before what they change."
              height="calc(100vh - 13rem)"
              choose={{
                can: (p) => p.takesRoom,
                acts: (chosen, clear) => (
                  <Button variant="default" onClick={() => setGiving({ points: chosen, clear })}>
                    Give up {chosen.length}, {size(chosen.reduce((n, p) => n + p.bytes, 0))} …
                  </Button>
                ),
              }}
            />
          )}
        </Loaded>
      </Panel>
      {giving && (
        <GiveUp
          points={giving.points}
          onClose={(done) => {
            if (done) giving.clear();
            setGiving(undefined);
          }}
        />
      )}
    </>
  );
}
