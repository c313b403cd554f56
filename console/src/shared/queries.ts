import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect } from 'react';
import { api, listed, onSessionEnded, setKnown, told } from './client';
import { setEstateZone } from './times';

/** Who is signed in; refused where nobody is. Once the session has ended it is asked again. */
export function useMe() {
  const cache = useQueryClient();
  const me = useQuery({
    queryKey: ['me'],
    queryFn: async () => {
      const who = await told(api.GET('/api/me'));
      setKnown(who);
      return who;
    },
    refetchInterval: 60_000,
    retry: false,
  });
  const refused = me.error !== null;
  useEffect(
    () =>
      onSessionEnded(() => {
        if (!refused) void cache.invalidateQueries({ queryKey: ['me'] });
      }),
    [cache, refused],
  );
  return me;
}

/** The estate as it was last read; its zone is the one of all times shown. */
export function useEstate() {
  const estate = useQuery({ queryKey: ['estate'], queryFn: () => told(api.GET('/api/estate')), refetchInterval: 15_000, retry: false });
  const zone = estate.data?.zone;
  useEffect(() => {
    if (zone) setEstateZone(zone);
  }, [zone]);
  return estate;
}

/** The components with their counts, without their members. */
export const useComponents = () =>
  useQuery({ queryKey: ['components'], queryFn: () => told(api.GET('/api/components')), refetchInterval: 15_000, retry: false });

/** Runs that have not ended. */
export const useOpenRuns = () =>
  useQuery({ queryKey: ['runs', 'open'], queryFn: () => listed('/api/runs', { state: 'open' }, 500), refetchInterval: 3000 });

export const useProducts = () => useQuery({ queryKey: ['catalogue'], queryFn: () => told(api.GET('/api/catalogue')) });

/** What runs left to be done and nobody has done yet. */
export const useFollowUps = () =>
  useQuery({ queryKey: ['follow-ups', 'open'], queryFn: () => listed('/api/follow-ups', {}, 2000), refetchInterval: 30_000 });

export const useDrift = () =>
  useQuery({ queryKey: ['drift'], queryFn: () => told(api.GET('/api/estate/drift')), refetchInterval: 30_000, retry: false });

/** The service itself: what it was started as does not change under a page. */
export const useService = () =>
  useQuery({ queryKey: ['service'], queryFn: () => told(api.GET('/api/service')), staleTime: Infinity, retry: false });
