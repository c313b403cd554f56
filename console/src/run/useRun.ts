import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { get, type Run } from '../shared/api';

/** A run as it stands, with the members of one part, fetched again when its feed says that something happened; the feed resumes by itself after a lost connection. */
export function useRun(id: string, lanes: number | 'current', most: number) {
  const client = useQueryClient();
  const [connected, setConnected] = useState(true);
  const query = useQuery({
    queryKey: ['run', id, lanes, most],
    queryFn: () => get<Run>(`/api/runs/${id}?lanes=${String(lanes)}&most=${String(most)}`),
    placeholderData: keepPreviousData,
    retry: 30,
    retryDelay: 1000,
  });
  const after = query.data?.sequence;
  const ended = query.data?.ended !== undefined;
  const ready = after !== undefined;
  useEffect(() => {
    if (!ready || ended) return;
    const feed = new EventSource(`/api/runs/${id}/events?after=${String(after)}`);
    let waiting: ReturnType<typeof setTimeout> | undefined;
    feed.onopen = () => setConnected(true);
    feed.onerror = () => setConnected(false);
    feed.onmessage = () => {
      // Many entries may come at once: one fetch serves them all.
      waiting ??= setTimeout(() => {
        waiting = undefined;
        void client.invalidateQueries({ queryKey: ['run', id] });
      }, 120);
    };
    return () => {
      clearTimeout(waiting);
      feed.close();
    };
    // The feed goes on from where it began; a newer sequence number is no reason to open another.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [id, ready, ended, client]);
  return { ...query, connected };
}
