import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { get, getList, post, type FollowUp, type NextStep, type PointLine, type ReturnOutlook, type Run } from '../shared/api';
import { day, seconds, size, span, words } from '../shared/words';

/** What is still done about a run after its end: what it left to be done, its rollback points, and leading it back. */
export function Afterwards({ run }: { run: Run }) {
  if (run.kind === 'return') return null;
  return (
    <div className="afterwards">
      <div className="stack">
        <FollowUps run={run} />
        <Next run={run} />
      </div>
      <div className="stack">
        <Points run={run} />
        {run.mayBeLedBack && !run.ledBackBy && <LeadBack run={run} />}
      </div>
    </div>
  );
}

function FollowUps({ run }: { run: Run }) {
  const list = useQuery({
    queryKey: ['follow-ups', run.run],
    queryFn: async () => (await getList<FollowUp>(`/api/follow-ups?run=${run.run}&all=true`)).lines,
  });
  const cache = useQueryClient();
  const done = useMutation({
    mutationFn: (id: string) => post('/api/follow-ups', { run: run.run, followUp: id, done: true }),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ['follow-ups', run.run] }),
  });
  if (!list.data) return null;
  const open = list.data.filter((f) => !f.done);
  return (
    <section className="sheet" aria-label="left to be done">
      <h2>Left to be done</h2>
      {open.length === 0 && <p>Nothing.</p>}
      <ul className="left">
        {open.map((f) => (
          <li key={f.id}>
            <span>
              {f.urgent && <strong>now: </strong>}
              {f.what} <span className="soft">({f.about})</span>
              <br />
              <span className="soft">
                {f.owner ?? 'nobody’s yet'}, until {day(f.due)}; {f.why}
              </span>
            </span>
            <button type="button" disabled={done.isPending} onClick={() => done.mutate(f.id)} aria-label={`done: ${f.what}`}>
              Done
            </button>
          </li>
        ))}
      </ul>
      {list.data.length > open.length && (
        <p className="soft">
          Done:{' '}
          {list.data
            .filter((f) => f.done)
            .map((f) => `${f.what} (${f.by ?? ''})`)
            .join('; ')}
        </p>
      )}
      {done.error && <p className="problem">{done.error.message}</p>}
    </section>
  );
}

/** What may be planned next: partners, neighbours whose support ends, later releases. */
function Next({ run }: { run: Run }) {
  const report = useQuery({
    queryKey: ['report', run.run],
    queryFn: () => get<{ next: NextStep[] }>(`/api/runs/${run.run}/report`),
  });
  if (!report.data || report.data.next.length === 0) return null;
  return (
    <section className="sheet" aria-label="what comes next">
      <h2>What comes next</h2>
      <ul>
        {report.data.next.map((n) => (
          <li key={n.component}>
            {n.component} {n.runs} to {n.to} <span className="soft">({n.why})</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Points({ run }: { run: Run }) {
  const list = useQuery({
    queryKey: ['points', run.run],
    queryFn: async () => (await getList<PointLine>(`/api/points?run=${run.run}`)).lines,
  });
  const cache = useQueryClient();
  const [chosen, setChosen] = useState<string[]>([]);
  const [reason, setReason] = useState('');
  const give = useMutation({
    mutationFn: () =>
      post('/api/points/give-up', { points: chosen.map((point) => ({ run: run.run, point })), reason: reason || undefined }),
    onSuccess: () => {
      setChosen([]);
      for (const key of ['points', 'follow-ups', 'return-path']) void cache.invalidateQueries({ queryKey: [key, run.run] });
    },
  });
  if (!list.data || list.data.length === 0) return null;
  const answers = give.data as { point: string; gone: boolean; told: string }[] | undefined;
  return (
    <section className="sheet" aria-label="rollback points">
      <h2>Rollback points</h2>
      <table>
        <thead>
          <tr>
            <th>member</th>
            <th>leads to</th>
            <th>is</th>
            <th>serves till</th>
            <th>takes</th>
          </tr>
        </thead>
        <tbody>
          {list.data.map((p) => (
            <tr key={p.id}>
              <td>
                <label>
                  {p.takesRoom && (
                    <input
                      type="checkbox"
                      checked={chosen.includes(p.id)}
                      onChange={(e) => setChosen(e.target.checked ? [...chosen, p.id] : chosen.filter((c) => c !== p.id))}
                    />
                  )}{' '}
                  {p.member}
                </label>
              </td>
              <td className="figures">{p.leadsTo}</td>
              <td title={p.why}>{words(p.state)}</td>
              <td className="n">{p.until && day(p.until)}</td>
              <td className="n">{p.takesRoom ? size(p.bytes) : 'nothing'}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {chosen.length > 0 && (
        <p className="ask">
          <label>
            Reason: <input size={24} value={reason} onChange={(e) => setReason(e.target.value)} />
          </label>{' '}
          <button type="button" disabled={give.isPending} onClick={() => give.mutate()}>
            Give up {chosen.length}, {size(list.data.filter((p) => chosen.includes(p.id)).reduce((sum, p) => sum + p.bytes, 0))}
          </button>
          <br />
          <span className="soft">What they hold is taken away on their nodes. Nothing brings it back.</span>
        </p>
      )}
      {answers
        ?.filter((a) => !a.gone)
        .map((a) => (
          <p key={a.point} className="problem">
            {a.point}: {a.told}
          </p>
        ))}
      {give.error && <p className="problem">{give.error.message}</p>}
    </section>
  );
}

function LeadBack({ run }: { run: Run }) {
  const moves = [...new Set(run.blocks.map((b) => b.move))];
  const [asFarAs, setAsFarAs] = useState('start');
  const [reason, setReason] = useState('');
  const go = useNavigate();
  const path = useQuery({
    queryKey: ['return-path', run.run, asFarAs, run.sequence],
    queryFn: () => get<ReturnOutlook>(`/api/runs/${run.run}/return-path?asFarAs=${encodeURIComponent(asFarAs)}`),
  });
  const start = useMutation({
    mutationFn: async () => (await post(`/api/runs/${run.run}/return`, { asFarAs, reason })) as { run: string },
    onSuccess: (back) => {
      void go(`/runs/${back.run}`);
    },
  });
  return (
    <section className="sheet" aria-label="lead it back">
      <h2>Lead it back</h2>
      {path.data?.open === false && <p>Closed: {path.data.why?.join('; ')}</p>}
      {path.data?.open && (
        <>
          <p>
            {path.data.goal?.join('; ')}; about {span(seconds(path.data.length ?? 'PT0S'))}, in {path.data.blocks?.length ?? 0} parts.{' '}
            {path.data.loss?.length ? <b>Loss: {path.data.loss.join('; ')}</b> : 'Nothing is lost.'}
          </p>
          <p>
            {moves.length > 1 && (
              <label>
                As far as{' '}
                <select value={asFarAs} onChange={(e) => setAsFarAs(e.target.value)}>
                  <option value="start">the start</option>
                  {moves.slice(1).map((m) => (
                    <option key={m} value={`move ${String(m)}`}>{`move ${String(m)}`}</option>
                  ))}
                </select>{' '}
              </label>
            )}
            <label>
              Reason, for the journal: <input size={24} value={reason} onChange={(e) => setReason(e.target.value)} />
            </label>{' '}
            <button type="button" disabled={reason.trim() === '' || start.isPending} onClick={() => start.mutate()}>
              Lead it back
            </button>
          </p>
        </>
      )}
      {start.error && <p className="problem">{start.error.message}</p>}
    </section>
  );
}
