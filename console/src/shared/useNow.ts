import { useEffect, useState } from 'react';
import { now } from './client';

/** The service's now, told again every so many milliseconds. */
export function useNow(every = 1000): number {
  const [at, setAt] = useState(now);
  useEffect(() => {
    const timer = setInterval(() => setAt(now()), every);
    return () => clearInterval(timer);
  }, [every]);
  return at;
}
