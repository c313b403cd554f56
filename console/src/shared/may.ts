import type { paths } from './openapi';
import { useMe } from './queries';

/** A call that changes something, as the service's table of permissions names it. */
export type Call = `${'POST' | 'PUT' | 'DELETE'} ${Extract<keyof paths, string>}`;

/** Why whoever is signed in may not make a call, and who may; undefined where they may. */
export function useMay(call: Call): string | undefined {
  const lack = useMe().data?.lacks.find((l) => l.calls.includes(call));
  if (lack === undefined) return undefined;
  const why = lack.why.charAt(0).toUpperCase() + lack.why.slice(1);
  return lack.hint ? `${why}. ${lack.hint}` : why;
}
