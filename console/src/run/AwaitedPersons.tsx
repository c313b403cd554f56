import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { actingName, post, type PersonAwaited, type Run } from '../shared/api';
import { moment } from '../shared/words';

/** What waits for a person: what is to be done, where, since when, whose it is, how, and the form that signs it. */
export function AwaitedPersons({ run, now }: { run: Run; now: number }) {
  return (
    <>
      {run.persons.map((p) => (
        <AwaitedPerson key={`${p.step} ${p.undo}`} run={run.run} waits={p} now={now} />
      ))}
    </>
  );
}

function AwaitedPerson({ run, waits, now }: { run: string; waits: PersonAwaited; now: number }) {
  const [evidence, setEvidence] = useState('');
  const [kept, setKept] = useState(false);
  const [owner, setOwner] = useState(waits.owner ?? '');
  const sign = useMutation({
    mutationFn: () =>
      post(`/api/runs/${run}/signatures`, {
        step: waits.step,
        evidence,
        cannotBeUndone: kept || undefined,
        owner: kept && owner ? owner : undefined,
      }),
  });
  return (
    <section className="sheet ask" aria-label="waits for a person">
      <strong>
        Waits for {waits.owner ?? 'a person'}: {waits.title}, on {waits.member}
      </strong>
      <p>
        {waits.instructions !== waits.title && <>{waits.instructions} </>}
        {waits.since && <>It waits since {moment(waits.since, now)}.</>}
      </p>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          sign.mutate();
        }}
      >
        <label>
          {kept ? 'Why it can’t be: ' : 'What you did or saw: '}
          <input size={50} value={evidence} onChange={(e) => setEvidence(e.target.value)} />
        </label>{' '}
        {waits.undo && (
          <label>
            <input type="checkbox" checked={kept} onChange={(e) => setKept(e.target.checked)} /> It can’t be taken back
          </label>
        )}{' '}
        {kept && (
          <label>
            Whose it is from now on: <input size={16} value={owner} onChange={(e) => setOwner(e.target.value)} />
          </label>
        )}{' '}
        <button type="submit" className="main" disabled={evidence.trim().length === 0 || sign.isPending}>
          {kept ? 'Leave it to be done' : 'Sign'} as {actingName() || 'nobody yet'}
        </button>
      </form>
      <p>
        <code>{waits.command}</code>
      </p>
      {sign.error && <p className="problem">{sign.error.message}</p>}
    </section>
  );
}
