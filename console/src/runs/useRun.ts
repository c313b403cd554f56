import { useEffect, useState } from 'react';
import { api, told } from '../shared/client';
import type { Run } from '../shared/shapes';
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
    return watch(id, { lanes: String(lanes), most }, show);
  }, [id, lanes, most]);
  // What was seen of another run is nothing of this one.
  return seen.id === id ? { data: seen.run, error: seen.error, connected: seen.connected } : { connected: true };
}

/** Watches till it is told to stop. A browser keeps few connections to one service: a page that nobody sees has none, and a run that has ended is asked for now and then. */
function watch(run: string, asked: { lanes: string; most: number }, tell: (next: (was: Seen) => Seen) => void) {
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
  const take = (it: Run) => {
    show(() => ({ run: it, connected: true }));
    if (it.ended !== undefined) later(() => void ask(), endedAgainAfter);
  };
  const open = () => {
    let seen: Run | undefined;
    feed = new EventSource(`/api/runs/${encodeURIComponent(run)}/changes?lanes=${asked.lanes}&most=${String(asked.most)}`);
    feed.addEventListener('view', (event: MessageEvent<string>) => take((seen = JSON.parse(event.data) as Run)));
    feed.addEventListener('change', (event: MessageEvent<string>) =>
      take((seen = patched(seen, JSON.parse(event.data) as Operation[]) as Run)),
    );
    feed.onerror = () => {
      show((was) => ({ ...was, connected: false }));
      // The browser tries again by itself, but not where it was refused: why, only an ordinary request tells.
      if (feed?.readyState === EventSource.CLOSED) void ask();
    };
  };
  const ask = async () => {
    try {
      const got = await told(api.GET('/api/runs/{run}', { params: { path: { run }, query: asked } }));
      show(() => ({ run: got, connected: true }));
      if (got.ended === undefined) later(open, retryAfter);
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
