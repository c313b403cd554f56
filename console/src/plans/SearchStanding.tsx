import { useQuery } from '@tanstack/react-query';
import { drop, get } from '../shared/api';
import { seconds } from '../shared/words';

interface Standing {
  looked: number;
  doing: string;
  for: string;
  stopped: boolean;
}

/** What a search that takes longer than a moment is at, and a way to end it with what it has. */
export function SearchStanding({ id }: { id: string }) {
  const standing = useQuery({
    queryKey: ['search', id],
    queryFn: () => get<Standing>(`/api/searches/${id}`).catch(() => null), // it may have ended by now
    refetchInterval: 500,
  });
  const at = standing.data;
  if (!at) return null;
  return (
    <p role="status">
      Looking for {at.doing}: {at.looked.toLocaleString('en-GB')} states in {Math.round(seconds(at.for))} s{' '}
      <button type="button" disabled={at.stopped} onClick={() => void drop(`/api/searches/${id}`)}>
        Stop with what it has
      </button>
    </p>
  );
}
