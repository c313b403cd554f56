import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { api, told } from '../shared/client';
import { count, seconds } from '../shared/times';

/** What a search that takes longer than a moment is at, and a way to end it with what it has. */
export function SearchStanding({ id }: { id: string }) {
  const params = { params: { path: { id } } };
  const standing = useQuery({
    queryKey: ['search', id],
    queryFn: () => told(api.GET('/api/searches/{id}', params)).catch(() => null), // it may have ended by now
    refetchInterval: 500,
  });
  const at = standing.data;
  if (!at) return null;
  return (
    <p role="status">
      Looking for {at.doing}: {count(at.looked)} states in {Math.round(seconds(at.for))} s{' '}
      <Button variant="default" size="compact-sm" disabled={at.stopped} onClick={() => void api.DELETE('/api/searches/{id}', params)}>
        Stop with what it has
      </Button>
    </p>
  );
}
