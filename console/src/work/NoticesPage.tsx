import { useMutation, useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { Act } from '../parts/Act';
import { Lines, type Column } from '../parts/Lines';
import { Loaded, Trouble } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { api, listed, told } from '../shared/client';
import type { Shapes } from '../shared/shapes';
import { words } from '../shared/words';

type Notice = Shapes['NoticeLine'];

const columns: Column<Notice>[] = [
  { id: 'at', head: 'Of', value: (n) => n.at, cell: (n) => <When at={n.at} /> },
  { id: 'moment', head: 'Moment', value: (n) => words(n.moment) },
  { id: 'rule', head: 'Rule', value: (n) => n.rule },
  {
    id: 'state',
    head: 'State',
    value: (n) => words(n.state),
    cell: (n) => <State of={n.state === 'taken' ? 'sent' : n.state === 'given-up' ? 'failed' : n.state}>{words(n.state)}</State>,
  },
  { id: 'attempts', head: 'Attempts', value: (n) => n.attempts, right: true },
  { id: 'said', head: 'Answer', value: (n) => n.said },
  { id: 'next', head: 'Next attempt', value: (n) => n.nextAt, cell: (n) => n.nextAt && <When at={n.nextAt} /> },
  { id: 'run', head: 'Run', value: (n) => n.run, cell: (n) => <Link to={`/runs/${n.run}`}>{n.run}</Link> },
];

/** Who is told of what, and what was told. */
export function NoticesPage() {
  const rules = useQuery({ queryKey: ['notice-rules'], queryFn: () => told(api.GET('/api/notices/rules')) });
  const notices = useQuery({ queryKey: ['notices'], queryFn: () => listed('/api/notices', { limit: 500 }, 5000), refetchInterval: 15_000 });
  const attempt = useMutation({
    mutationFn: (rule: string) => told(api.POST('/api/notices/rules/{rule}/try', { params: { path: { rule } } })),
  });
  return (
    <>
      <PageHead title="Notices" actions={<Link to="/documents">Change the rules under Documents</Link>} />
      <div className="stack">
        <Panel label="rules" title="Who is told of what">
          <Loaded query={rules} what="the rules">
            {(lines) =>
              lines.length === 0 ? (
                <p className="soft">
                  Nobody is told of anything. A document of the kind notices says who is told of a halt, of a person’s step, of an end.
                </p>
              ) : (
                <table className="lines">
                  <thead>
                    <tr>
                      <th>Rule</th>
                      <th>By</th>
                      <th>To</th>
                      <th>At</th>
                      <th />
                    </tr>
                  </thead>
                  <tbody>
                    {lines.map((r) => (
                      <tr key={r.id}>
                        <td>{r.id}</td>
                        <td>{r.to}</td>
                        <td>{r.target}</td>
                        <td>{r.at.map(words).join(', ')}</td>
                        <td className="n">
                          <Act
                            call="POST /api/notices/rules/{rule}/try"
                            variant="default"
                            size="compact-sm"
                            onClick={() => attempt.mutate(r.id)}
                          >
                            Try it
                          </Act>
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              )
            }
          </Loaded>
          {attempt.isSuccess && (
            <p role="status">
              <State of="sent">A made-up notice was taken by {attempt.variables}.</State>
            </p>
          )}
          <Trouble of={attempt.error} />
        </Panel>
        <Panel label="notices" title="What was told">
          <Loaded query={notices} what="the notices">
            {({ lines }) => (
              <Lines
                name="notices"
                rows={lines}
                columns={columns}
                keyOf={(n) => n.id}
                empty="Nothing was told yet."
                height="calc(100vh - 22rem)"
              />
            )}
          </Loaded>
        </Panel>
      </div>
    </>
  );
}
