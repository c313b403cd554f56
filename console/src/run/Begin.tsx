import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { post, type Run } from '../shared/api';

/** Starts a run, now or at a time; while it waits for that time it can be let begin. */
export function Begin({ run }: { run: Run }) {
  const [at, setAt] = useState('');
  const start = useMutation({
    mutationFn: (body: object) => post(`/api/runs/${run.run}/start`, body),
  });
  const waits = run.status === 'waiting' && run.startsAt && run.waitsFor?.startsWith('for the time to begin');
  if (run.status !== 'ready' && !waits) return null;
  return (
    <>
      {run.status === 'ready' && (
        <label>
          begin at <input type="datetime-local" value={at} onChange={(e) => setAt(e.target.value)} />
        </label>
      )}
      <button
        type="button"
        className="main"
        disabled={start.isPending}
        onClick={() => start.mutate(waits ? { notAtATime: true } : { at: at ? new Date(at).toISOString() : null })}
      >
        {waits ? 'Begin now' : at ? 'Start at that time' : 'Start'}
      </button>
      {start.error && <span className="problem">{start.error.message}</span>}
    </>
  );
}
