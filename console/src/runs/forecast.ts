import type { Run } from '../shared/shapes';

/** When a run is forecast to end. While it waits for somebody the end moves on with the clock: then it is told for the case that they decide or sign now. */
export function forecastOf(run: Run, now: number): { at: string; ifNow: boolean } | undefined {
  if (!run.forecastEnd) return undefined;
  const ifNow = run.halt !== undefined || run.status === 'held' || run.onlyPersonsWork;
  const waited = ifNow ? Math.max(0, now - Date.parse(run.lastAt)) : 0;
  return { at: new Date(Date.parse(run.forecastEnd) + waited).toISOString(), ifNow };
}
