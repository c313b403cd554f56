import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { actingName, post, type Run } from '../shared/api';

/** The sign-off that a run waits for: what would begin, where the return path stands now, and the form to sign. */
export function AwaitedSignOff({ run }: { run: Run }) {
  const [note, setNote] = useState('');
  const awaited = run.signOffs.find((s) => s.awaited)?.asked;
  const sign = useMutation({ mutationFn: () => post(`/api/runs/${run.run}/sign-offs`, { signOff: awaited?.id, note: note || undefined }) });
  if (!awaited) return null;
  const next = run.blocks.find((b) => b.number === awaited.block);
  return (
    <section className="sheet ask" aria-label="sign-off">
      <strong>
        Waits for a sign-off {awaited.why}: part {awaited.block}, {next?.title}
      </strong>
      <p>
        {next && <>After it: {next.return.why || next.return.state}. </>}
        {awaited.byAnother && `Not by ${run.by}, nor by who made the plan.`}
      </p>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          sign.mutate();
        }}
      >
        <label>
          Note: <input size={40} value={note} onChange={(e) => setNote(e.target.value)} />
        </label>{' '}
        <button type="submit" className="main" disabled={sign.isPending}>
          Sign as {actingName() || 'nobody yet'}
        </button>
      </form>
      {sign.error && <p className="problem">{sign.error.message}</p>}
    </section>
  );
}
