import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef } from 'react';
import { get } from '../shared/api';

/** The output of one attempt, while it runs and afterwards. */
export function Output({ run, attempt, title, onClose }: { run: string; attempt: string; title: string; onClose: () => void }) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => dialog.current?.showModal(), []);
  const output = useQuery({
    queryKey: ['output', run, attempt],
    queryFn: () => get<string>(`/api/runs/${run}/outputs/${attempt}`),
    refetchInterval: 1000,
  });
  return (
    <dialog ref={dialog} onClose={onClose} aria-label="output">
      <h2>
        {title} <span className="figures">({attempt})</span>
      </h2>
      <pre>{output.error ? output.error.message : output.data || 'No output.'}</pre>
      <button type="button" onClick={() => dialog.current?.close()}>
        Close
      </button>
    </dialog>
  );
}
