import { useMutation } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { actingName, post } from '../shared/api';
import { contentOf } from '../shared/files';
import { idOf, type Finding } from './model';

/** A person's word on one finding: why it may be borne as it stands, and until when; or that what people had to do is done. */
export function Accept({ plan, finding, onClose }: { plan: string; finding: Finding; onClose: (accepted: boolean) => void }) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => dialog.current?.showModal(), []);
  const [reason, setReason] = useState('');
  const [until, setUntil] = useState('');
  const [file, setFile] = useState<File>();
  const manual = finding.check === 'manual';
  const accept = useMutation({
    mutationFn: async () =>
      manual
        ? post(`/api/plans/${encodeURIComponent(plan)}/signatures`, {
            item: finding.subject,
            evidence: reason,
            ...(file && { file: { name: file.name, content: await contentOf(file) } }),
          })
        : post('/api/waivers', {
            plan,
            finding: idOf(finding),
            reason,
            ...(until && { ends: new Date(`${until}T23:59:59`).toISOString() }),
          }),
    onSuccess: () => onClose(true),
  });
  return (
    <dialog ref={dialog} onClose={() => onClose(false)} aria-label="acceptance">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          accept.mutate();
        }}
      >
        <h2>{idOf(finding)}</h2>
        <p>{finding.what}</p>
        <label>
          {manual ? 'What you did or saw, for the report:' : 'Why it may be borne, for the report:'}
          <textarea rows={3} value={reason} onChange={(e) => setReason(e.target.value)} />
        </label>
        {manual && (
          <label>
            A file that shows it, if words are not enough: <input type="file" onChange={(e) => setFile(e.target.files?.[0])} />
          </label>
        )}
        {!manual && (
          <>
            <label>
              Until the end of (a week, if not given): <input type="date" value={until} onChange={(e) => setUntil(e.target.value)} />
            </label>
            <p className="soft">It covers this finding as it is now. If it gets worse it stands again.</p>
          </>
        )}
        {accept.error && <p className="problem">{accept.error.message}</p>}
        <p>
          <button type="submit" className="main" disabled={reason.trim().length === 0 || accept.isPending}>
            {manual ? 'Sign' : 'Accept'} as {actingName() || 'nobody yet'}
          </button>{' '}
          <button type="button" onClick={() => dialog.current?.close()}>
            Not now
          </button>
        </p>
      </form>
    </dialog>
  );
}
