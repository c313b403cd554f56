import { Checkbox, Select } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { Act } from '../parts/Act';
import { Confirm } from '../parts/Confirm';
import { Loaded, Trouble } from '../parts/Loaded';
import { Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { api, listed, told } from '../shared/client';
import type { Run } from '../shared/shapes';
import { day, size, spanOf } from '../shared/times';
import { words } from '../shared/words';
import { GiveUp } from '../work/GiveUp';

/** What is still done about a run after its end: what it left to be done, its rollback points, and leading it back. */
export function Afterwards({ run }: { run: Run }) {
  return (
    <div className="halves">
      <div className="stack">
        <FollowUps run={run} />
        {run.kind !== 'return' && run.mayBeLedBack && !run.ledBackBy && <LeadBack run={run} />}
      </div>
      <Points run={run} />
    </div>
  );
}

function FollowUps({ run }: { run: Run }) {
  const list = useQuery({
    queryKey: ['follow-ups', run.run],
    queryFn: () => listed('/api/follow-ups', { run: run.run, all: true }),
  });
  const cache = useQueryClient();
  const done = useMutation({
    mutationFn: (id: string) => told(api.POST('/api/follow-ups', { body: { run: run.run, followUp: id, done: true } })),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ['follow-ups'] }),
  });
  return (
    <Panel label="left to be done" title="Left to be done">
      <Loaded query={list} what="what is left">
        {({ lines }) => {
          const open = lines.filter((f) => !f.done);
          return (
            <>
              {open.length === 0 && <p className="soft">Nothing.</p>}
              <ul className="plain stack-small">
                {open.map((f) => (
                  <li key={f.id} className="with-button">
                    <span>
                      {f.urgent && <strong>now: </strong>}
                      {f.what} <span className="soft">({f.about})</span>
                      <div className="soft">
                        {f.owner ?? 'nobody’s yet'}, until {day(f.due)}; {f.why}
                      </div>
                    </span>
                    <Act
                      call="POST /api/follow-ups"
                      variant="default"
                      size="compact-sm"
                      aria-label={`done: ${f.what}`}
                      disabled={done.isPending}
                      onClick={() => done.mutate(f.id)}
                    >
                      Done
                    </Act>
                  </li>
                ))}
              </ul>
              {lines.length > open.length && (
                <p className="soft">
                  Done:{' '}
                  {lines
                    .filter((f) => f.done)
                    .map((f) => `${f.what} (${f.by ?? ''})`)
                    .join('; ')}
                </p>
              )}
              <Trouble of={done.error} />
            </>
          );
        }}
      </Loaded>
    </Panel>
  );
}

function Points({ run }: { run: Run }) {
  const list = useQuery({ queryKey: ['points', run.run], queryFn: () => listed('/api/points', { run: run.run, limit: 500 }) });
  const [chosen, setChosen] = useState<string[]>([]);
  const [giving, setGiving] = useState(false);
  const points = list.data?.lines ?? [];
  const picked = points.filter((p) => chosen.includes(p.id));
  return (
    <Panel
      label="rollback points"
      title="Rollback points"
      actions={
        picked.length > 0 && (
          <Act call="POST /api/points/give-up" variant="default" onClick={() => setGiving(true)}>
            Give up {picked.length} …
          </Act>
        )
      }
    >
      <Loaded query={list} what="the points">
        {({ lines }) =>
          lines.length === 0 ? (
            <p className="soft">It took none.</p>
          ) : (
            <table className="lines">
              <thead>
                <tr>
                  <th>Member</th>
                  <th>Leads to</th>
                  <th>State</th>
                  <th>Serves until</th>
                  <th className="n">Takes</th>
                </tr>
              </thead>
              <tbody>
                {lines.map((p) => (
                  <tr key={p.id}>
                    <td>
                      {p.takesRoom ? (
                        <Checkbox
                          label={p.member}
                          checked={chosen.includes(p.id)}
                          onChange={(e) => setChosen(e.currentTarget.checked ? [...chosen, p.id] : chosen.filter((c) => c !== p.id))}
                        />
                      ) : (
                        p.member
                      )}
                    </td>
                    <td>{p.leadsTo}</td>
                    <td title={p.why}>
                      <State of={p.state}>{words(p.state)}</State>
                    </td>
                    <td>{p.until && day(p.until)}</td>
                    <td className="n">{p.takesRoom ? size(p.bytes) : 'nothing'}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )
        }
      </Loaded>
      {giving && (
        <GiveUp
          points={picked}
          onClose={(done) => {
            if (done) setChosen([]);
            setGiving(false);
          }}
        />
      )}
    </Panel>
  );
}

function LeadBack({ run }: { run: Run }) {
  const moves = [...new Set(run.blocks.map((b) => b.move))];
  const [asFarAs, setAsFarAs] = useState('start');
  const [asking, setAsking] = useState(false);
  const go = useNavigate();
  const path = useQuery({
    queryKey: ['return-path', run.run, asFarAs, run.sequence],
    queryFn: () => told(api.GET('/api/runs/{run}/return-path', { params: { path: { run: run.run }, query: { asFarAs } } })),
  });
  const start = useMutation({
    mutationFn: (reason: string) =>
      told(api.POST('/api/runs/{run}/return', { params: { path: { run: run.run } }, body: { asFarAs, reason } })),
    onSuccess: (back) => void go(`/runs/${back.run}`),
  });
  return (
    <Panel
      label="lead it back"
      title="Lead it back"
      actions={
        <>
          {moves.length > 1 && (
            <Select
              aria-label="as far as"
              w={130}
              value={asFarAs}
              data={[
                { value: 'start', label: 'to the start' },
                ...moves.slice(1).map((m) => ({ value: `move ${String(m)}`, label: `to move ${String(m)}` })),
              ]}
              onChange={(v) => setAsFarAs(v ?? 'start')}
            />
          )}
          <Act call="POST /api/runs/{run}/return" variant="default" disabled={path.data?.open !== true} onClick={() => setAsking(true)}>
            Lead it back …
          </Act>
        </>
      }
    >
      <Loaded query={path} what="the return path">
        {(p) =>
          p.open ? (
            <p>
              {p.goal?.join('; ')}; about {spanOf(p.length)}, in {p.blocks?.length ?? 0} parts.{' '}
              {p.loss?.length ? <b>Loss: {p.loss.join('; ')}</b> : 'Nothing is lost.'}
            </p>
          ) : (
            <p>Closed: {p.why?.join('; ')}</p>
          )
        }
      </Loaded>
      {asking && (
        <Confirm
          call="POST /api/runs/{run}/return"
          title={`Lead back ${run.label || run.run}`}
          act="Lead it back"
          reason={{ label: 'Reason, for the journal', needed: true }}
          pending={start.isPending}
          error={start.error}
          onAct={(reason) => start.mutate(reason)}
          onClose={() => setAsking(false)}
        >
          <p>{path.data?.goal?.join('; ')}</p>
          <p>
            It takes about {spanOf(path.data?.length)}.{' '}
            {path.data?.loss?.length ? <b>Loss: {path.data.loss.join('; ')}</b> : 'Nothing is lost.'}
          </p>
        </Confirm>
      )}
    </Panel>
  );
}
