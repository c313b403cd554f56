import { Drawer } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Loaded } from '../parts/Loaded';
import { api, told } from '../shared/client';
import { span } from '../shared/times';

/** The best return path once a part of the plan is done: its moves, how long they take, and what they lose. */
export function ReturnFrom({ digest, part, title, onClose }: { digest: string; part?: number; title?: string; onClose: () => void }) {
  const back = useQuery({
    queryKey: ['return', digest, part],
    queryFn: () => told(api.GET('/api/plans/{digest}/return', { params: { path: { digest }, query: { after: part } } })),
    enabled: part !== undefined,
  });
  return (
    <Drawer
      opened={part !== undefined}
      onClose={onClose}
      title={`Return path after part ${String(part)}, ${title ?? ''}`}
      closeButtonProps={{ 'aria-label': 'close' }}
    >
      <section aria-label="return path">
        <Loaded query={back} what="the return path">
          {(path) =>
            path.found ? (
              <>
                <ol className="close">
                  {path.moves.map((m) => (
                    <li key={m.written}>
                      {m.jumps.map((j) => `${j.component} ${j.from} back to ${j.to}`).join(' with ')}
                      <span className="soft">
                        {' '}
                        {m.jumps.map((j) => (j.jump.startsWith('restore ') ? j.jump : `by jump ${j.jump}`)).join(', ')},{' '}
                        {span(m.minutes * 60)}
                        {m.outageMinutes > 0 && `, out: ${m.out.join(', ')}`}
                      </span>
                    </li>
                  ))}
                </ol>
                <ul className="close">
                  {path.notes.map((n) => (
                    <li key={n}>{n}</li>
                  ))}
                </ul>
              </>
            ) : (
              <ul className="close">
                {path.reasons.map((r) => (
                  <li key={r.what}>{r.what}</li>
                ))}
              </ul>
            )
          }
        </Loaded>
      </section>
    </Drawer>
  );
}
