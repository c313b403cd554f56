import { useMutation } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { actingName, post, type Step } from '../shared/api';

/** A person's signature under a step that a person does: what is to be done, and the evidence that it is. */
export function Sign({ run, step, onClose }: { run: string; step: Step; onClose: () => void }) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => dialog.current?.showModal(), []);
  const [evidence, setEvidence] = useState('');
  const sign = useMutation({
    mutationFn: () => post(`/api/runs/${run}/signatures`, { step: step.id, evidence }),
    onSuccess: () => dialog.current?.close(),
  });
  return (
    <dialog ref={dialog} onClose={onClose} aria-label="signature">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          sign.mutate();
        }}
      >
        <h2>{step.title}</h2>
        {step.instructions && <p>{step.instructions}</p>}
        <label>
          What you did or saw, for the report:
          <textarea rows={4} value={evidence} onChange={(e) => setEvidence(e.target.value)} />
        </label>
        {sign.error && <p className="problem">{sign.error.message}</p>}
        <p>
          <button type="submit" className="main" disabled={evidence.trim().length === 0 || sign.isPending}>
            Sign as {actingName() || 'nobody yet'}
          </button>{' '}
          <button type="button" onClick={() => dialog.current?.close()}>
            Not yet
          </button>
        </p>
      </form>
    </dialog>
  );
}
