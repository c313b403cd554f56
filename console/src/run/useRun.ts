import { useEffect, useState } from 'react';
import { get, type Run } from '../shared/api';
import { patched, type Operation } from '../shared/patch';

interface Seen {
  run?: Run;
  error?: Error;
  connected: boolean;
}

const retryAfter = 1000;
const endedAgainAfter = 10_000;

/** A run as it stands, with the members of one part. The service sends it once and then what changes; after a lost connection it sends all of it anew. */
export function useRun(id: string, lanes: number | 'current', most: number) {
  const [seen, setSeen] = useState<Seen & { id: string }>({ id, connected: true });
  useEffect(() => {
    const show = (next: (was: Seen) => Seen) => setSeen((was) => ({ id, ...next(was.id === id ? was : { connected: true }) }));
    return watch(`/api/runs/${encodeURIComponent(id)}`, `lanes=${String(lanes)}&most=${String(most)}`, show);
  }, [id, lanes, most]);
  // What was seen of another run is nothing of this one.
  return seen.id === id ? { data: seen.run, error: seen.error, connected: seen.connected } : { connected: true };
}

/** Watches till it is told to stop. A browser keeps few connections to one service: a page that nobody sees has none, and a run that has ended is asked for now and then. */
function watch(path: string, asked: string, tell: (next: (was: Seen) => Seen) => void) {
  let [feed, again]: [EventSource | undefined, ReturnType<typeof setTimeout> | undefined] = [undefined, undefined];
  let left = false;
  const show = (next: (was: Seen) => Seen) => {
    if (!left) tell(next);
  };
  const rest = () => {
    clearTimeout(again);
    feed?.close();
  };
  const later = (act: () => void, after: number) => {
    rest();
    if (!left && !document.hidden) again = setTimeout(act, after);
  };
  const take = (run: Run) => {
    show(() => ({ run, connected: true }));
    if (run.ended !== undefined) later(() => void ask(), endedAgainAfter);
  };
  const open = () => {
    let run: Run | undefined;
    feed = new EventSource(`${path}/changes?${asked}`);
    feed.addEventListener('view', (event: MessageEvent<string>) => take((run = JSON.parse(event.data) as Run)));
    feed.addEventListener('change', (event: MessageEvent<string>) =>
      take((run = patched(run, JSON.parse(event.data) as Operation[]) as Run)),
    );
    feed.onerror = () => {
      show((was) => ({ ...was, connected: false }));
      // The browser tries again by itself, but not where it was refused: why, only an ordinary request tells.
      if (feed?.readyState === EventSource.CLOSED) void ask();
    };
  };
  const ask = async () => {
    try {
      const run = await get<Run>(`${path}?${asked}`);
      show(() => ({ run, connected: true }));
      if (run.ended === undefined) later(open, retryAfter);
      else later(() => void ask(), endedAgainAfter);
    } catch (error) {
      show((was) => (was.run ? { ...was, connected: false } : { error: error as Error, connected: false }));
      later(() => void ask(), retryAfter);
    }
  };
  const seenOrNot = () => {
    rest();
    if (!document.hidden) open();
  };
  document.addEventListener('visibilitychange', seenOrNot);
  seenOrNot();
  return () => {
    left = true;
    document.removeEventListener('visibilitychange', seenOrNot);
    rest();
  };
}
