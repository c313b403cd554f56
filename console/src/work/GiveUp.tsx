import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Confirm } from '../parts/Confirm';
import { api, told } from '../shared/client';
import type { Point } from '../shared/shapes';
import { many, size } from '../shared/times';

/** Rollback points are given up: which, what room that gives, and what can no longer be returned to. */
export function GiveUp({ points, onClose }: { points: Point[]; onClose: (done: boolean) => void }) {
  const cache = useQueryClient();
  const give = useMutation({
    mutationFn: (reason: string) =>
      told(
        api.POST('/api/points/give-up', {
          body: { points: points.map((p) => ({ run: p.run, point: p.id })), reason: reason || undefined, dry: false },
        }),
      ),
    onSuccess: (answers) => {
      for (const key of ['points', 'follow-ups', 'return-path']) void cache.invalidateQueries({ queryKey: [key] });
      if (answers.every((a) => a.gone)) onClose(true);
    },
  });
  const serving = points.filter((p) => p.state === 'usable');
  const left = give.data?.filter((a) => !a.gone) ?? [];
  return (
    <Confirm
      call="POST /api/points/give-up"
      title={`Give up ${many(points.length, 'rollback point')}`}
      act={`Give up ${String(points.length)}, ${size(points.reduce((n, p) => n + p.bytes, 0))}`}
      danger
      reason={{ label: 'Reason', needed: false }}
      pending={give.isPending}
      error={give.error}
      onAct={(reason) => give.mutate(reason)}
      onClose={() => onClose(false)}
    >
      <p>What they hold is taken away on their nodes. Nothing brings it back.</p>
      <ul className="close">
        {points.slice(0, 8).map((p) => (
          <li key={p.run + p.id}>
            {p.member}, back to {p.leadsTo}
          </li>
        ))}
        {points.length > 8 && <li>and {points.length - 8} more</li>}
      </ul>
      {serving.length > 0 && <p className="warn">{many(serving.length, 'of them still serves', 'of them still serve')} a return path.</p>}
      {left.map((a) => (
        <p key={a.point} className="problem">
          {a.point}: {a.told}
        </p>
      ))}
    </Confirm>
  );
}
