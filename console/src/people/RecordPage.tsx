import { Button } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Lines, type Column } from '../parts/Lines';
import { Loaded, Trouble } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { api, listed, told } from '../shared/client';
import type { Shapes } from '../shared/shapes';
import { many } from '../shared/times';

type Line = Shapes['RecordLineView'];

const most = 2000;

const columns: Column<Line>[] = [
  { id: 'at', head: 'When', value: (l) => l.at, cell: (l) => <When at={l.at} /> },
  { id: 'name', head: 'Who', value: (l) => (l.removed ? '' : l.name || '(unknown)') },
  {
    id: 'what',
    head: 'What',
    value: (l) => (l.removed ? `${many(l.removed, 'line')} before were taken away in their time` : l.words || l.what),
  },
  { id: 'about', head: 'About', value: (l) => l.about },
  {
    id: 'result',
    head: 'Result',
    value: (l) => l.result,
    cell: (l) => l.result && <State of={l.result === 'done' ? 'done' : l.result === 'refused' ? 'held' : 'failed'}>{l.result}</State>,
  },
  { id: 'from', head: 'From', value: (l) => l.from },
  { id: 'by', head: 'Session or token', value: (l) => l.by },
  { id: 'call', head: 'Call', value: (l) => l.what, spare: true },
  { id: 'who', head: 'Identifier', value: (l) => l.who, spare: true },
  { id: 'number', head: 'Line', value: (l) => l.number, right: true, spare: true },
];

/** Who did what: everything that changed something, and everything that was refused. */
export function RecordPage() {
  const record = useQuery({
    queryKey: ['record'],
    queryFn: () => listed('/api/record', { limit: 500 }, most),
    refetchInterval: 15_000,
    retry: false,
  });
  const verify = useMutation({ mutationFn: () => told(api.GET('/api/record/verify')) });
  return (
    <>
      <PageHead
        title="Record"
        actions={
          <>
            <Button variant="default" onClick={() => verify.mutate()} loading={verify.isPending}>
              Verify
            </Button>
            <Button variant="default" component="a" href="/api/record/export">
              Export all
            </Button>
          </>
        }
      />
      <div className="stack">
        {verify.data && (
          <p role="status">
            <State of={verify.data.whole ? 'done' : 'failed'}>
              {verify.data.whole ? `The record is whole: ${many(verify.data.lines, 'line')}.` : 'The record is not what was written.'}
            </State>
            {verify.data.problems.map((p) => (
              <span key={p} className="problem">
                {' '}
                {p}
              </span>
            ))}
          </p>
        )}
        <Trouble of={verify.error} />
        <Panel label="record">
          <Loaded query={record} what="the record">
            {({ lines, more }) => (
              <Lines
                name="lines"
                rows={lines}
                columns={columns}
                keyOf={(l) => String(l.number)}
                empty={<p className="soft">Nothing has been done yet.</p>}
                more={more && <p className="soft">There is more: these are the newest {most}. All of it is in the export.</p>}
              />
            )}
          </Loaded>
        </Panel>
      </div>
    </>
  );
}
