import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { get, post } from '../shared/api';
import { day, seconds, span } from '../shared/words';

interface Drawn {
  wish: { draws: number; seed: number };
  planned: string;
  early: string;
  middle: string;
  late: string;
  ended: number;
  windows: { window: string; to: string; chance: number }[];
  deciding: { step: string; component: string; share: number; assumed: boolean }[];
  halts: string[];
  assumedShare: number;
  broken: string[];
}
interface View {
  drawn?: { drawn: Drawn; by: string; at: string };
  evidence?: { evidence: { run: string; estate: string }; by: string; at: string };
  missing?: string;
}

const percent = (share: number) => `${String(Math.round(share * 1000) / 10)} %`;

/** The rehearsals of a plan: how its end spreads, whether its windows hold, what decides it, and what a test estate has shown. */
export function Rehearsals({ digest }: { digest: string }) {
  const path = `/api/plans/${encodeURIComponent(digest)}/rehearsals`;
  const view = useQuery({ queryKey: ['rehearsals', digest], queryFn: () => get<View>(path) });
  const cache = useQueryClient();
  const [draws, setDraws] = useState('200');
  const [fails, setFails] = useState('2');
  const rehearse = useMutation({
    mutationFn: () => post(path, { draws: Number(draws), failsPerThousand: Number(fails) }),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ['rehearsals', digest] }),
  });
  if (!view.data) return null;
  const kept = view.data.drawn;
  const evidence = view.data.evidence;
  return (
    <section className="sheet" aria-label="rehearsals">
      <h2>Rehearsals</h2>
      {view.data.missing && <p className="state-with-loss">It can’t start: {view.data.missing}.</p>}
      {!kept && !evidence && <p>It was never rehearsed.</p>}
      {kept && <Spread drawn={kept.drawn} by={kept.by} at={kept.at} />}
      {evidence && (
        <p>
          In a test estate: run {evidence.evidence.run} in {evidence.evidence.estate} took the same steps; taken by {evidence.by} on{' '}
          {day(evidence.at)}.
        </p>
      )}
      <form
        onSubmit={(e) => {
          e.preventDefault();
          rehearse.mutate();
        }}
      >
        <label>
          draws <input size={4} inputMode="numeric" value={draws} onChange={(e) => setDraws(e.target.value)} />
        </label>{' '}
        <label>
          of 1000 steps fail <input size={3} inputMode="decimal" value={fails} onChange={(e) => setFails(e.target.value)} />
        </label>{' '}
        <button type="submit" disabled={rehearse.isPending}>
          {rehearse.isPending ? 'Rehearsing …' : 'Rehearse in simulated time'}
        </button>
      </form>
      {rehearse.error && <p className="problem">{rehearse.error.message}</p>}
    </section>
  );
}

function Spread({ drawn, by, at }: { drawn: Drawn; by: string; at: string }) {
  return (
    <>
      <p>
        {drawn.ended === 0 ? (
          <b>None of {drawn.wish.draws} draws came to its end.</b>
        ) : (
          <>
            Half of {drawn.wish.draws} draws end within <b className="figures">{span(seconds(drawn.middle))}</b>, one in ten within{' '}
            <span className="figures">{span(seconds(drawn.early))}</span>, one in ten takes more than{' '}
            <b className="figures">{span(seconds(drawn.late))}</b>; <span className="figures">{span(seconds(drawn.planned))}</span> of work
            are planned. {percent(drawn.ended)} came to their end.
          </>
        )}{' '}
        <span className="soft">
          {by}, {day(at)}
        </span>
      </p>
      {drawn.windows.length > 0 && (
        <ul className="notes">
          {drawn.windows.map((w) => (
            <li key={w.window + w.to} className={w.chance < 0.5 ? 'state-with-loss' : undefined}>
              window {w.window}, to {day(w.to)}: kept in <span className="figures">{percent(w.chance)}</span>
            </li>
          ))}
        </ul>
      )}
      {drawn.deciding.length > 0 && (
        <table>
          <thead>
            <tr>
              <th>decides the end</th>
              <th>of</th>
              <th>share</th>
              <th>its spread</th>
            </tr>
          </thead>
          <tbody>
            {drawn.deciding.map((d) => (
              <tr key={d.step + d.component}>
                <td>{d.step}</td>
                <td>{d.component}</td>
                <td className="n">{percent(d.share)}</td>
                <td>{d.assumed ? 'assumed' : 'learnt'}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {drawn.broken.map((b) => (
        <p key={b} className="problem">
          A guard breaks: {b}
        </p>
      ))}
      {drawn.halts.length > 0 && <p className="soft">Halts: {drawn.halts.join('; ')}</p>}
      <p className="soft">
        {percent(drawn.assumedShare)} of the time lies in steps whose spread is assumed. It proves order, times and decisions, not the
        products’ steps.
      </p>
    </>
  );
}
