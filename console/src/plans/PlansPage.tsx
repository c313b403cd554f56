import { Button } from '@mantine/core';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { Lines, type Column } from '../parts/Lines';
import { Loaded } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { listed } from '../shared/client';
import type { PlanLine } from '../shared/shapes';
import { seconds, spanOf } from '../shared/times';
import { short } from '../shared/words';

const columns: Column<PlanLine>[] = [
  {
    id: 'goal',
    head: 'Goal',
    value: (p) => p.goal.join('; '),
    cell: (p) =>
      p.setAside ? (
        <State of="set-aside">set aside: {p.setAside}</State>
      ) : (
        <>
          <Link to={`/plans/${encodeURIComponent(p.digest)}`}>{p.goal.join('; ')}</Link> <span className="id">{short(p.digest)}</span>
        </>
      ),
  },
  { id: 'kind', head: 'Kind', value: (p) => p.kind },
  { id: 'moves', head: 'Moves', value: (p) => p.moves, right: true },
  { id: 'takes', head: 'Takes', value: (p) => seconds(p.expected), cell: (p) => spanOf(p.expected), right: true },
  { id: 'made', head: 'Made', value: (p) => p.made, cell: (p) => <When at={p.made} /> },
  { id: 'by', head: 'By', value: (p) => p.by },
];

/** The plans that are kept; two of them compared. */
export function PlansPage() {
  const [most, setMost] = useState(200);
  const plans = useQuery({
    queryKey: ['plans', most],
    queryFn: () => listed('/api/plans', { limit: Math.min(most, 500) }, most),
    placeholderData: keepPreviousData,
  });
  const go = useNavigate();
  return (
    <>
      <PageHead
        title="Plans"
        actions={
          <Button component={Link} to="/plans/new">
            Make a plan
          </Button>
        }
      />
      <Panel label="plans">
        <Loaded query={plans} what="the plans">
          {({ lines, more }) => (
            <Lines
              name="plans"
              rows={lines}
              columns={columns}
              keyOf={(p) => p.digest}
              empty={
                <>
                  No plan is kept yet. <Link to="/plans/new">Make one</Link>: name what shall be at which release.
                </>
              }
              height="calc(100vh - 13rem)"
              choose={{
                can: (p) => !p.setAside,
                acts: (chosen) =>
                  chosen.length === 2 ? (
                    <Button
                      variant="default"
                      onClick={() => {
                        const [later, earlier] = chosen.toSorted((a, b) => b.made.localeCompare(a.made));
                        void go(
                          `/plans/${encodeURIComponent(later?.digest ?? '')}/compared?from=${encodeURIComponent(earlier?.digest ?? '')}`,
                        );
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
                  <Button variant="subtle" onClick={() => setMost(most + 500)}>
                    Older plans
                  </Button>
                )
              }
            />
          )}
        </Loaded>
      </Panel>
    </>
  );
}
