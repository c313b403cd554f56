import { useQuery } from '@tanstack/react-query';
import { get } from '../shared/api';
import { span } from '../shared/words';
import type { Path } from './model';

/** The best return path once a part of the plan is done: its moves, how long they take, and what they lose. */
export function ReturnFrom({ digest, part, title }: { digest: string; part?: number; title?: string }) {
  const back = useQuery({
    queryKey: ['return', digest, part],
    queryFn: () => get<Path>(`/api/plans/${encodeURIComponent(digest)}/return?after=${String(part)}`),
    enabled: part !== undefined,
  });
  if (part === undefined) return null;
  return (
    <section className="sheet back-from" aria-label="return path" tabIndex={0}>
      <h2>
        Return path after part {part}, {title}
      </h2>
      {back.error && <p className="problem">{back.error.message}</p>}
      {back.data?.found === false && (
        <ul>
          {back.data.reasons.map((r) => (
            <li key={r.what}>{r.what}</li>
          ))}
        </ul>
      )}
      {back.data?.found && (
        <>
          <ol>
            {back.data.moves.map((m) => (
              <li key={m.written}>
                {m.jumps.map((j) => `${j.component} ${j.from} back to ${j.to}`).join(' with ')}
                <span className="soft">
                  {' '}
                  {m.jumps.map((j) => (j.jump.startsWith('restore ') ? j.jump : `by jump ${j.jump}`)).join(', ')}, {span(m.minutes * 60)}
                  {m.outageMinutes > 0 && `, out: ${m.out.join(', ')}`}
                </span>
              </li>
            ))}
          </ol>
          <ul className="notes">
            {back.data.notes.map((n) => (
              <li key={n}>{n}</li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}
