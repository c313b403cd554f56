import { useEffect, useState } from 'react';
import { get, type Run } from '../shared/api';
import { patched, type Operation } from '../shared/patch';

interface Seen {
  run?: Run;
  error?: Error;
  connected: boolean;
}

const retryAfter = 1000;

/** A run as it stands, with the members of one part. The service sends it once and then what changes; after a lost connection it sends all of it anew. */
export function useRun(id: string, lanes: number | 'current', most: number) {
  const [seen, setSeen] = useState<Seen & { id: string }>({ id, connected: true });
  useEffect(() => {
    const path = `/api/runs/${encodeURIComponent(id)}`;
    const asked = `lanes=${String(lanes)}&most=${String(most)}`;
    let [feed, again]: [EventSource | undefined, ReturnType<typeof setTimeout> | undefined] = [undefined, undefined];
    let left = false;
    const show = (next: (was: Seen) => Seen) => {
      if (!left) setSeen((was) => ({ id, ...next(was.id === id ? was : { connected: true }) }));
    };
    const open = () => {
      let run: Run | undefined;
      feed = new EventSource(`${path}/changes?${asked}`);
      feed.addEventListener('view', (event: MessageEvent<string>) => {
        run = JSON.parse(event.data) as Run;
        show(() => ({ run, connected: true }));
      });
      feed.addEventListener('change', (event: MessageEvent<string>) => {
        run = patched(run, JSON.parse(event.data) as Operation[]) as Run;
        show(() => ({ run, connected: true }));
      });
      feed.onerror = () => {
        show((was) => ({ ...was, connected: false }));
        // The browser tries again by itself, but not where it was refused: why, only an ordinary request tells.
        if (feed?.readyState === EventSource.CLOSED) void refused();
      };
    };
    const refused = async () => {
      try {
        const run = await get<Run>(`${path}?${asked}`);
        show(() => ({ run, connected: false }));
      } catch (error) {
        show((was) => (was.run ? was : { error: error as Error, connected: false }));
      }
      if (!left) again = setTimeout(open, retryAfter);
    };
    open();
    return () => {
      left = true;
      clearTimeout(again);
      feed?.close();
    };
  }, [id, lanes, most]);
  // What was seen of another run is nothing of this one.
  return seen.id === id ? { data: seen.run, error: seen.error, connected: seen.connected } : { connected: true };
}
