import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { get, post, type Decision, type ReturnOutlook, type Run } from '../shared/api';
import { seconds, span } from '../shared/words';

const labels: Record<Decision['decision'], string> = {
  'try-again': 'Try again',
  'return-as-far-as': 'Return as far as …',
  'stop-here': 'Stop here',
};

/** A halt or a hold: what happened, what may be decided, what each decision means, and the return path with its loss and length. */
export function Halt({ run }: { run: Run }) {
  const moves = [...new Set(run.blocks.map((b) => b.move))];
  const [asFarAs, setAsFarAs] = useState('start');
  const [reason, setReason] = useState('');
  const returns = run.decisions.some((d) => d.decision === 'return-as-far-as');
  const outlook = useQuery({
    queryKey: ['return-path', run.run, asFarAs, run.sequence],
    queryFn: () => get<ReturnOutlook>(`/api/runs/${run.run}/return-path?asFarAs=${encodeURIComponent(asFarAs)}`),
    enabled: returns,
  });
  const decide = useMutation({
    mutationFn: (decision: string) => post(`/api/runs/${run.run}/decisions`, { decision, reason: reason || undefined, asFarAs }),
  });
  return (
    <section className="halt" aria-label="decision">
      <strong>{run.halt ? `Halted: ${run.halt}` : 'Held. Say go on, or decide.'}</strong>
      <ul>
        {run.decisions.map((d) => (
          <li key={d.decision}>
            <span>
              <button
                type="button"
                className={d.decision === 'try-again' ? 'main' : ''}
                disabled={decide.isPending || (d.decision === 'return-as-far-as' && outlook.data?.open === false)}
                onClick={() => decide.mutate(d.decision)}
              >
                {labels[d.decision]}
              </button>{' '}
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
      <label>
        Reason, for the report: <input value={reason} size={40} onChange={(e) => setReason(e.target.value)} />
      </label>
      {decide.error && <p className="problem">{decide.error.message}</p>}
    </section>
  );
}
