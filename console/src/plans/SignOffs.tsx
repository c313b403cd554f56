import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { actingName, get, post } from '../shared/api';
import { decisionWords, seconds, span } from '../shared/words';

export interface Asked {
  id: string;
  block: number;
  why: string;
  byAnother: boolean;
  lasts: string;
}
export interface Given {
  for: string;
  by: string;
  at: string;
  ends: string;
  turnBack: { decision: string; after: string; times: number }[];
  note?: string;
}
interface View {
  asked: Asked[];
  given: Given[];
  author: string;
  missing?: string;
}

const at = (time: string) => new Date(time).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' });

/** What was agreed for halts that nobody decides, in words. */
export const agreed = (given: Given) =>
  given.turnBack.length === 0
    ? 'a halt waits for somebody'
    : `at a halt that nobody decides: ${given.turnBack.map((o) => `${decisionWords(o.decision)} after ${span(seconds(o.after))}`).join(', then ')}`;

/** The sign-offs of a plan: what is asked, what was signed, and the form to sign with what holds when nobody decides. */
export function SignOffs({ digest }: { digest: string }) {
  const path = `/api/plans/${encodeURIComponent(digest)}/sign-offs`;
  const view = useQuery({ queryKey: ['sign-offs', digest], queryFn: () => get<View>(path) });
  const cache = useQueryClient();
  const [decision, setDecision] = useState('');
  const [after, setAfter] = useState('20 min');
  const [note, setNote] = useState('');
  const sign = useMutation({
    mutationFn: () => post(path, { digest, note: note || undefined, turnBack: decision === '' ? [] : [{ decision, after, times: 1 }] }),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ['sign-offs', digest] }),
  });
  if (!view.data || view.data.asked.length === 0) return null;
  return (
    <section className="sheet" aria-label="sign-offs">
      <h2>Sign-offs</h2>
      <ul className="notes">
        {view.data.asked.map((a) => (
          <li key={a.id}>
            {a.id}: {a.why}{' '}
            <span className="soft">
              by {a.byAnother ? `another than ${view.data.author}` : 'anybody'}, holds {span(seconds(a.lasts))}
            </span>
          </li>
        ))}
      </ul>
      {view.data.given.map((g) => (
        <p key={g.at}>
          Signed by <b>{g.by}</b> on {at(g.at)}, holds until {at(g.ends)}; {agreed(g)}.{g.note && ` ${g.note}`}
        </p>
      ))}
      {view.data.missing && view.data.asked.some((a) => a.id === 'start') && (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            sign.mutate();
          }}
        >
          <p className="state-with-loss">It can’t start: {view.data.missing}.</p>
          <p>
            <label>
              When nobody decides at a halt:{' '}
              <select value={decision} onChange={(e) => setDecision(e.target.value)}>
                <option value="">it waits</option>
                <option value="return-as-far-as">return to the start</option>
                <option value="stop-here">stop here</option>
                <option value="try-again">try again</option>
              </select>
            </label>{' '}
            {decision !== '' && (
              <label>
                after <input size={7} value={after} onChange={(e) => setAfter(e.target.value)} />
              </label>
            )}
          </p>
          <p>
            <label>
              Note: <input size={30} value={note} onChange={(e) => setNote(e.target.value)} />
            </label>{' '}
            <button type="submit" className="main" disabled={sign.isPending}>
              Sign as {actingName() || 'nobody yet'}
            </button>
          </p>
          {sign.error && <p className="problem">{sign.error.message}</p>}
        </form>
      )}
    </section>
  );
}
