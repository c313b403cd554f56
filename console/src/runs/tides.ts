import type { Shapes } from '../shared/shapes';

type Tide = Shapes['TideView'];

/** Up to so many components stand side by side at the head of a run. */
export const fewTides = 6;

/** Of many components those that are between two versions, and those that come next. */
export function tideToShow(tide: Tide[]): Tide[] {
  if (tide.length <= fewTides) return tide;
  const mixed = tide.filter((t) => t.old > 0 && t.new > 0);
  const next = tide.filter((t) => t.old > 0 && t.new === 0);
  return [...mixed, ...next].slice(0, Math.max(mixed.length, 3));
}
