import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { get, post } from '../shared/api';
import { seconds, span, words } from '../shared/words';
import { stripOfPlan, type KeptPlan, type PlanLine } from './model';
import './plans.css';
import { Needs } from './Needs';
import { ReturnFrom } from './ReturnFrom';
import { Rehearsals } from './Rehearsals';
import { SignOffs } from './SignOffs';
import { StripChart } from './StripChart';

const time = (at: string) => /T(\d\d:\d\d)/.exec(at)?.[1] ?? at;
const day = (at: string) => new Date(at).toLocaleDateString('en-GB', { weekday: 'short', day: 'numeric', month: 'short', year: 'numeric' });

/** One plan, as a run would carry it out: the strip, the windows, every part with its return path, and what differs from another plan. */
export function PlanPage() {
  const { digest = '' } = useParams();
  const kept = useQuery({ queryKey: ['plan', digest], queryFn: () => get<KeptPlan>(`/api/plans/${encodeURIComponent(digest)}`) });
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => get<PlanLine[]>('/api/plans') });
  const [earlier, setEarlier] = useState('');
  const [from, setFrom] = useState<number>();
  const differences = useQuery({
    queryKey: ['differences', digest, earlier],
    queryFn: () =>
      get<{ differences: string[] }>(`/api/plans/${encodeURIComponent(digest)}/differences?from=${encodeURIComponent(earlier)}`),
    enabled: earlier !== '',
  });
  const go = useNavigate();
  const open = useMutation({
    mutationFn: () => post('/api/runs', { plan: kept.data?.digest, label: kept.data?.plan.goal.join('; ') }) as Promise<{ run: string }>,
    onSuccess: (made) => void go(`/runs/${made.run}`),
  });
  if (kept.error) return <p className="problem">{kept.error.message}</p>;
  if (!kept.data) return <p>Reading the plan …</p>;
  const { plan } = kept.data;
  const timed = plan.windows.length > 0;
  return (
    <>
      <div className="run-head">
        <h1>{plan.goal.join('; ')}</h1>
        <span className="figures soft">{kept.data.digest.slice(7, 17)}</span>
        <span className="actions">
          {plan.kind === 'upgrade' && (
            <>
              <Link to={`/checks/${encodeURIComponent(kept.data.digest)}`}>Is it ready?</Link>{' '}
              <button type="button" className="main" disabled={open.isPending} onClick={() => open.mutate()}>
                Open a run of it
              </button>
            </>
          )}
        </span>
      </div>
      {open.error && <p className="problem">{open.error.message}</p>}
      <p>
        {plan.moves.length} {plan.moves.length === 1 ? 'move' : 'moves'}, {span(seconds(plan.expected))}, {plan.points.length} rollback
        points.{' '}
        {plan.windows.map((w, i) => (
          <span key={w.from}>
            Window {i + 1}: {day(w.from)} {time(w.from)} to {time(w.to)}, moves {w.firstMove} to {w.lastMove}, end {time(w.ends)}.{' '}
          </span>
        ))}
        {timed && <a href={`/api/plans/${encodeURIComponent(kept.data.digest)}/calendar`}>As a calendar</a>}
      </p>
      <StripChart strip={stripOfPlan(plan)} />
      {plan.notes.length > 0 && (
        <ul className="notes state-with-loss">
          {plan.notes.map((note) => (
            <li key={note}>{note}</li>
          ))}
        </ul>
      )}
      <div className="plan-columns wide-left">
        <section className="sheet" aria-label="parts">
          <h2>Parts</h2>
          <table>
            <thead>
              <tr>
                <th>part</th>
                {timed && <th>begins</th>}
                <th>takes</th>
                <th>return path after it</th>
                {timed && <th>turn back by</th>}
                <th>out, and what serves on</th>
              </tr>
            </thead>
            <tbody>
              {plan.blocks.map((b) => (
                <tr key={b.number} className={b.restsAfter ? 'rests' : ''}>
                  <td>
                    <details>
                      <summary>
                        <span className="figures">{b.number}</span> {b.title}
                      </summary>
                      <ul>
                        {b.lanes.flatMap((l) =>
                          l.steps.map((s) => (
                            <li key={s.id}>
                              <span className="figures">{s.member}</span> {s.title}
                              {s.impact && <i>: {s.impact}</i>}
                              {s.closes && <b>: closes the return path</b>}
                            </li>
                          )),
                        )}
                      </ul>
                    </details>
                  </td>
                  {timed && <td className="n">{b.begins && time(b.begins)}</td>}
                  <td className="n">{span(seconds(b.expected) + seconds(b.settle))}</td>
                  <td className={`n state-${b.return.state}`}>
                    {plan.kind === 'upgrade' && seconds(b.return.length) > 0 ? (
                      <button
                        type="button"
                        className="link"
                        aria-label={`${words(b.return.state)}, ${span(seconds(b.return.length))}: return path after part ${String(b.number)}`}
                        aria-pressed={from === b.number}
                        onClick={() => setFrom(b.number)}
                      >
                        {words(b.return.state)}, {span(seconds(b.return.length))}
                      </button>
                    ) : (
                      words(b.return.state)
                    )}
                  </td>
                  {timed && <td className="n">{b.turnBack && time(b.turnBack)}</td>}
                  <td>
                    {b.componentsOut.length > 0 && <b>{b.componentsOut.join(', ')} out. </b>}
                    {b.stillServing.length > 0 && <span className="soft">{b.stillServing.join(', ')}</span>}
                    {b.restsAfter && ' resting place'}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
        <div className="stack">
          <ReturnFrom digest={kept.data.digest} part={from} title={plan.blocks.find((b) => b.number === from)?.title} />
          <SignOffs digest={kept.data.digest} />
          <Rehearsals digest={kept.data.digest} />
          <Needs plan={plan} />
          <section className="sheet" aria-label="comparison">
            <h2>Compared with an earlier plan</h2>
            <select aria-label="earlier plan" value={earlier} onChange={(e) => setEarlier(e.target.value)}>
              <option value="">choose one</option>
              {plans.data
                ?.filter((p) => p.digest !== kept.data.digest)
                .map((p) => (
                  <option key={p.digest} value={p.digest}>
                    {p.digest.slice(7, 13)} {p.goal.join('; ').slice(0, 40)}
                  </option>
                ))}
            </select>
            {differences.error && <p className="problem">{differences.error.message}</p>}
            {differences.data && (
              <ul>
                {differences.data.differences.map((d) => (
                  <li key={d}>{d}</li>
                ))}
                {differences.data.differences.length === 0 && <li>It is the same plan.</li>}
              </ul>
            )}
          </section>
        </div>
      </div>
    </>
  );
}
