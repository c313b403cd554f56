import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { get, post, type Decision, type ReturnOutlook, type Run } from '../shared/api';
import { seconds, span } from '../shared/words';

const labels: Record<Decision['decision'], string> = {
  'try-again': 'Try again',
  'correct-and-try-again': 'Correct and try again',
  'mark-as-done': 'Mark as done',
  skip: 'Skip',
  'return-member': 'Return this member and go on',
  'leave-out': 'Leave this member out and go on',
  'go-past-window': 'Go past the window',
  'accept-differences': 'Accept what differs',
  'return-as-far-as': 'Return as far as …',
  'stop-here': 'Stop here',
};

/** What stands in the report in place of a step's own proof needs a reason. */
const needsReason: Decision['decision'][] = [
  'correct-and-try-again',
  'mark-as-done',
  'skip',
  'leave-out',
  'accept-differences',
  'return-member',
];

/** A halt or a hold: what happened, what may be decided, what each decision means, and the return path with its loss and length. */
export function Halt({ run }: { run: Run }) {
  const moves = [...new Set(run.blocks.map((b) => b.move))];
  const [asFarAs, setAsFarAs] = useState('start');
  const [reason, setReason] = useState('');
  const [limit, setLimit] = useState('');
  const returns = run.decisions.some((d) => d.decision === 'return-as-far-as');
  const outlook = useQuery({
    queryKey: ['return-path', run.run, asFarAs, run.sequence],
    queryFn: () => get<ReturnOutlook>(`/api/runs/${run.run}/return-path?asFarAs=${encodeURIComponent(asFarAs)}`),
    enabled: returns,
  });
  const decide = useMutation({
    mutationFn: (decision: string) =>
      post(`/api/runs/${run.run}/decisions`, {
        decision,
        reason: reason || undefined,
        asFarAs,
        halt: run.haltNumber,
        ...(decision === 'correct-and-try-again' && { limit: limit || undefined }),
      }),
  });
  return (
    <section className="halt" aria-label="decision">
      <strong>
        {run.halt
          ? `Halted: ${run.halt}`
          : run.status === 'held'
            ? 'Held. Say go on, or decide.'
            : 'A node does not answer. The run waits for it; its member can be left out.'}
      </strong>
      <label>
        Reason, for the report: <input value={reason} size={40} onChange={(e) => setReason(e.target.value)} />
        {run.decisions.some((d) => needsReason.includes(d.decision)) && (
          <span className="soft"> needed to correct, mark as done, skip, leave out, return a member, or accept</span>
        )}
      </label>
      <ul>
        {run.decisions.map((d) => (
          <li key={d.decision}>
            <span>
              <button
                type="button"
                className={d.decision === 'try-again' ? 'main' : ''}
                disabled={
                  decide.isPending ||
                  (d.decision === 'return-as-far-as' && outlook.data?.open === false) ||
                  (needsReason.includes(d.decision) && reason.trim() === '') ||
                  (d.decision === 'correct-and-try-again' && limit.trim() === '')
                }
                onClick={() => decide.mutate(d.decision)}
              >
                {labels[d.decision]}
              </button>{' '}
              {d.decision === 'correct-and-try-again' && (
                <input
                  aria-label="another limit"
                  placeholder="limit, as in 2 h"
                  size={12}
                  value={limit}
                  onChange={(e) => setLimit(e.target.value)}
                />
              )}
              {d.decision === 'return-as-far-as' && (
                <select aria-label="as far as" value={asFarAs} onChange={(e) => setAsFarAs(e.target.value)}>
                  <option value="start">the start</option>
                  {moves.slice(1).map((m) => (
                    <option key={m} value={`move ${String(m)}`}>{`move ${String(m)}`}</option>
                  ))}
                </select>
              )}
            </span>
            <span>
              {d.decision === 'return-as-far-as' && outlook.data ? (
                outlook.data.open ? (
                  <>
                    {outlook.data.goal?.join('; ') || 'nothing has been changed'}; about {span(seconds(outlook.data.length ?? 'PT0S'))}.{' '}
                    {outlook.data.loss?.length ? <b>Loss: {outlook.data.loss.join('; ')}</b> : 'Nothing is lost.'}
                  </>
                ) : (
                  <b>Closed: {outlook.data.why?.join('; ')}</b>
                )
              ) : (
                d.means
              )}
            </span>
          </li>
        ))}
      </ul>
      {decide.error && <p className="problem">{decide.error.message}</p>}
    </section>
  );
}
