import { useInfiniteQuery, useMutation, useQuery, useQueryClient, type Query } from '@tanstack/react-query';
import { api, openSession, take, type Run } from './client';

export const useSession = () => useQuery({ queryKey: ['session'], staleTime: Infinity, queryFn: openSession });

export const useDuty = () =>
  useQuery({ queryKey: ['duty'], queryFn: () => take(api.GET('/api/v1/duty')), refetchInterval: 60_000 });

export const useJobs = () =>
  useQuery({ queryKey: ['jobs'], queryFn: () => take(api.GET('/api/v1/jobs')), refetchInterval: 60_000 });

export const useJob = (name: string) =>
  useQuery({
    queryKey: ['jobs', name],
    queryFn: () => take(api.GET('/api/v1/jobs/{name}', { params: { path: { name } } })),
  });

export const useRuns = (query: { job?: string; kind?: string; limit?: number }) =>
  useQuery({ queryKey: ['runs', query], queryFn: () => take(api.GET('/api/v1/runs', { params: { query } })) });

export const useRun = (id: number | undefined) =>
  useQuery({
    queryKey: ['run', id],
    enabled: id !== undefined,
    queryFn: () => take(api.GET('/api/v1/runs/{id}', { params: { path: { id: id ?? 0 } } })),
  });

/** The log so far; asks for more while the run is not ended. */
export const useRunLog = (run: Run | undefined) =>
  useQuery({
    queryKey: ['run-log', run?.id, run?.state === 'ended'],
    enabled: run !== undefined,
    refetchInterval: run?.state === 'ended' ? false : 1000,
    queryFn: () => take(api.GET('/api/v1/runs/{id}/log', { params: { path: { id: run?.id ?? 0 } } })),
  });

export const useCopies = (query: { job?: string; store?: string }) =>
  useInfiniteQuery({
    queryKey: ['copies', query],
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      take(api.GET('/api/v1/copies', { params: { query: { ...query, cursor: pageParam, limit: 200 } } })),
    getNextPageParam: (page) => page.next ?? undefined,
  });

export const useCopy = (id: string) =>
  useQuery({
    queryKey: ['copies', 'one', id],
    queryFn: () => take(api.GET('/api/v1/copies/{id}', { params: { path: { id } } })),
  });

export const useFolder = (id: string, path: string | undefined) =>
  useQuery({
    queryKey: ['folder', id, path],
    retry: false,
    queryFn: () => take(api.GET('/api/v1/copies/{id}/entries', { params: { path: { id }, query: { path } } })),
  });

export const useStores = () =>
  useQuery({ queryKey: ['stores'], queryFn: () => take(api.GET('/api/v1/stores')), refetchInterval: 60_000 });

export const useTimetable = (hours: number) =>
  useQuery({
    queryKey: ['timetable', hours],
    queryFn: () => take(api.GET('/api/v1/timetable', { params: { query: { hours } } })),
    refetchInterval: 60_000,
  });

export const useCharter = () =>
  useQuery({ queryKey: ['charter'], queryFn: () => take(api.GET('/api/v1/charter')), refetchOnWindowFocus: false });

/** Everything but what must stand still while it is read: who is signed in, and a plan that was shown. */
export const movable = (query: Query) => !['session', 'prune-plan'].includes(String(query.queryKey[0]));

/** A request that changes something; afterwards everything that may have changed is asked for again. */
export function useAct<TInput, TAnswer>(act: (input: TInput) => Promise<TAnswer>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSuccess: () => queries.invalidateQueries({ predicate: movable }),
  });
}

export const useRunJob = () =>
  useAct((name: string) => take(api.POST('/api/v1/jobs/{name}/runs', { params: { path: { name } } })));

export const useCancelRun = () =>
  useAct((id: number) => take(api.POST('/api/v1/runs/{id}/cancel', { params: { path: { id } } })));

export const useAcknowledge = () =>
  useAct((id: number) => take(api.POST('/api/v1/alerts/{id}/acknowledge', { params: { path: { id } } })));

export const useStoreAct = (what: 'checks' | 'reclaims') =>
  useAct((name: string) => take(api.POST(`/api/v1/stores/{name}/${what}`, { params: { path: { name } } })));
