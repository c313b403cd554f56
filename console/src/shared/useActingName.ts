import { useSyncExternalStore } from 'react';
import { actingName, onActingName } from './client';

/** Who acts, as it is said at the head of every page. */
export const useActingName = () => useSyncExternalStore(onActingName, actingName);
