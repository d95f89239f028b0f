import { useInfiniteQuery, useMutation, useQuery, useQueryClient, type Query } from '@tanstack/react-query';
import { api, openSession, take, type Run, type Schemas } from './client';

export const useSession = () => useQuery({ queryKey: ['session'], staleTime: Infinity, queryFn: openSession });

export const useDuty = () =>
  useQuery({ queryKey: ['duty'], queryFn: () => take(api.GET('/api/v1/duty')), refetchInterval: 60_000 });

export const useJobs = () =>
  useQuery({ queryKey: ['jobs'], queryFn: () => take(api.GET('/api/v1/jobs')), refetchInterval: 60_000 });

/** A job, on one of its machines where it is on several. */
export interface OneJob {
  name: string;
  on?: string | undefined;
}

const at = ({ name, on }: OneJob) => ({ path: { name }, query: { on } });

export const useJob = (job: OneJob) =>
  useQuery({
    queryKey: ['jobs', job.name, job.on],
    queryFn: () => take(api.GET('/api/v1/jobs/{name}', { params: at(job) })),
  });

export const useRuns = (query: {
  job?: string;
  store?: string;
  machine?: string;
  kind?: string;
  outcome?: string;
  limit?: number;
}) => useQuery({ queryKey: ['runs', query], queryFn: () => take(api.GET('/api/v1/runs', { params: { query } })) });

export const useRun = (id: number | undefined) =>
  useQuery({
    queryKey: ['run', id],
    enabled: id !== undefined,
    queryFn: () => take(api.GET('/api/v1/runs/{id}', { params: { path: { id: id ?? 0 } } })),
  });

/** The log so far, lines that are at least so severe; asks for more while the run is not ended. */
export const useRunLog = (run: Run | undefined, severity = 'info') =>
  useQuery({
    queryKey: ['run-log', run?.id, run?.state === 'ended', severity],
    enabled: run !== undefined,
    refetchInterval: run?.state === 'ended' ? false : 1000,
    queryFn: async () => {
      const path = { id: run?.id ?? 0 };
      const whole = await take(api.GET('/api/v1/runs/{id}/log', { params: { path, query: { severity } } }));
      while (whole.more) {
        const rest = await take(
          api.GET('/api/v1/runs/{id}/log', { params: { path, query: { severity, from: whole.next } } }),
        );
        whole.lines.push(...rest.lines);
        whole.next = rest.next;
        whole.more = rest.more;
      }
      return whole;
    },
  });

/** The run of the same job that ended before, to set beside it. */
export const usePreviousRun = (run: Run | undefined) =>
  useQuery({
    queryKey: ['previous-run', run?.id],
    enabled: run?.kind === 'backup',
    queryFn: () => take(api.GET('/api/v1/runs/{id}/previous', { params: { path: { id: run?.id ?? 0 } } })),
  });

export const useHistory = (job: OneJob) =>
  useQuery({
    queryKey: ['jobs', job.name, job.on, 'history'],
    queryFn: () => take(api.GET('/api/v1/jobs/{name}/history', { params: at(job) })),
  });

export const useFind = (name: string, job: string | undefined) =>
  useQuery({
    queryKey: ['find', name, job],
    enabled: name.length > 0,
    queryFn: () => take(api.GET('/api/v1/copies/find', { params: { query: { name, job } } })),
  });

export const useVersions = (job: string, store: string, path: string | undefined) =>
  useQuery({
    queryKey: ['versions', job, store, path],
    enabled: path !== undefined,
    queryFn: () => take(api.GET('/api/v1/copies/versions', { params: { query: { job, store, path: path ?? '' } } })),
  });

export const useWhy = (id: string, asked: boolean) =>
  useQuery({
    queryKey: ['copies', 'why', id],
    enabled: asked,
    queryFn: () => take(api.GET('/api/v1/copies/{id}/why', { params: { path: { id } } })),
  });

export const useAlert = (id: number) =>
  useQuery({
    queryKey: ['alerts', 'one', id],
    retry: false,
    queryFn: () => take(api.GET('/api/v1/alerts/{id}', { params: { path: { id } } })),
  });

export interface AlertFilters {
  state?: string | undefined;
  class?: string | undefined;
  severity?: string | undefined;
  find?: string | undefined;
}

export const useAlerts = (query: AlertFilters) =>
  useQuery({
    queryKey: ['alerts', query],
    queryFn: () => take(api.GET('/api/v1/alerts', { params: { query: { ...query, limit: 500 } } })),
  });

export const useChannels = () =>
  useQuery({ queryKey: ['channels'], queryFn: () => take(api.GET('/api/v1/channels')), refetchInterval: 60_000 });

export const useDefinitions = () =>
  useQuery({ queryKey: ['charter', 'definitions'], queryFn: () => take(api.GET('/api/v1/definitions')) });

/** The keys of the charter as its readers know them; they change with the service alone. */
export const useLanguage = () =>
  useQuery({
    queryKey: ['charter-language'],
    staleTime: Infinity,
    queryFn: () => take(api.GET('/api/v1/charter/language')),
  });

export const useSelfCheck = () =>
  useQuery({ queryKey: ['service'], queryFn: () => take(api.GET('/api/v1/service')), refetchInterval: 60_000 });

export interface CopyFilters {
  job?: string | undefined;
  store?: string | undefined;
  machine?: string | undefined;
  state?: string | undefined;
  since?: string | undefined;
  until?: string | undefined;
}

export const useCopies = (query: CopyFilters) =>
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
export const movable = (query: Query) =>
  !['session', 'prune-plan', 'charter-language'].includes(String(query.queryKey[0]));

/** A request that changes something; afterwards everything that may have changed is asked for again. */
export function useAct<TInput, TAnswer>(act: (input: TInput) => Promise<TAnswer>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSuccess: () => queries.invalidateQueries({ predicate: movable }),
  });
}

export const useRunJob = () => useAct((job: OneJob) => take(api.POST('/api/v1/jobs/{name}/runs', { params: at(job) })));

export const useCancelRun = () =>
  useAct((id: number) => take(api.POST('/api/v1/runs/{id}/cancel', { params: { path: { id } } })));

export const useAcknowledge = () =>
  useAct((id: number) => take(api.POST('/api/v1/alerts/{id}/acknowledge', { params: { path: { id } } })));

/** Known to a person until an instant: nobody is told of it before. */
export const useKnow = () =>
  useAct(({ id, ...body }: { id: number; reason: string; until: string }) =>
    take(api.POST('/api/v1/alerts/{id}/known', { params: { path: { id } }, body })),
  );

export const useNote = () =>
  useAct(({ id, words }: { id: number; words: string }) =>
    take(api.POST('/api/v1/alerts/{id}/notes', { params: { path: { id } }, body: { words } })),
  );

/** Runs again the job named, or every job that the alert's cause stopped. */
export const useRerun = () =>
  useAct(({ id, ...query }: { id: number; job?: string; settings: 'today' | 'then'; when: 'now' | 'window' }) =>
    take(api.POST('/api/v1/alerts/{id}/reruns', { params: { path: { id }, query } })),
  );

/** The reports that are kept; one that is being made is soon there. */
export const useReports = () =>
  useQuery({
    queryKey: ['reports'],
    queryFn: () => take(api.GET('/api/v1/reports', { params: { query: { limit: 200 } } })),
    refetchInterval: (q) => (q.state.data?.items.some((r) => r.madeAt === null && r.problem === null) ? 1000 : false),
  });

export const useMakeReport = () =>
  useAct((name: string) => take(api.POST('/api/v1/reports', { body: { name, from: null } })));

/** What running again what an alert is about would do. */
export const useRerunPreview = (id: number, job?: string) =>
  useQuery({
    queryKey: ['rerun', id, job],
    queryFn: () => take(api.GET('/api/v1/alerts/{id}/reruns', { params: { path: { id }, query: { job } } })),
  });

export const useWaitForNext = () =>
  useAct((id: number) => take(api.POST('/api/v1/alerts/{id}/wait', { params: { path: { id } } })));

export const useStoreAct = (what: 'checks' | 'reclaims' | 'heals') =>
  useAct((name: string) => take(api.POST(`/api/v1/stores/{name}/${what}`, { params: { path: { name } } })));

export const useAttachStore = () =>
  useAct((body: Schemas['AttachRequest']) => take(api.POST('/api/v1/stores', { body })));

export const useMachines = () =>
  useQuery({ queryKey: ['machines'], queryFn: () => take(api.GET('/api/v1/machines')), refetchInterval: 15_000 });

export const useMachine = (name: string) =>
  useQuery({
    queryKey: ['machines', name],
    queryFn: () => take(api.GET('/api/v1/machines/{name}', { params: { path: { name } } })),
    refetchInterval: 15_000,
  });

/** A job on each of its machines, or the jobs of a machine. */
export const useJobsOf = (query: { job?: string; machine?: string }) =>
  useQuery({
    queryKey: ['jobs', 'of', query],
    queryFn: () => take(api.GET('/api/v1/jobs', { params: { query } })),
    refetchInterval: 60_000,
  });

/** How many copies there are of a machine, or of all, by job and store. */
export const useCopyCounts = (machine?: string) =>
  useQuery({
    queryKey: ['copies', 'counts', machine],
    queryFn: () => take(api.GET('/api/v1/copies/counts', { params: { query: { machine } } })),
  });

/** The runs that wait; what is at work changes all the time. */
export const useWaiting = () =>
  useQuery({
    queryKey: ['runs', 'waiting'],
    queryFn: () => take(api.GET('/api/v1/runs/waiting')),
    refetchInterval: 5_000,
  });

/** Runs a job again where it did not come off. */
export const useRerunFailed = () =>
  useAct(({ name, then }: { name: string; then: boolean }) =>
    take(
      api.POST('/api/v1/jobs/{name}/reruns', {
        params: { path: { name }, query: { settings: then ? 'then' : 'today' } },
      }),
    ),
  );

export const useEnrolMachine = () =>
  useAct((name: string) => take(api.POST('/api/v1/machines/{name}/enrolment', { params: { path: { name } } })));

export const useShutOut = () =>
  useAct(({ name, reason }: { name: string; reason: string }) =>
    take(api.POST('/api/v1/machines/{name}/shut-out', { params: { path: { name } }, body: { reason } })),
  );

export const useCameBack = () =>
  useAct(({ name, renamed }: { name: string; renamed: boolean }) =>
    take(api.POST('/api/v1/machines/{name}/came-back', { params: { path: { name } }, body: { renamed } })),
  );

export const useStoreKeys = (name: string) =>
  useQuery({
    queryKey: ['store-keys', name],
    retry: false,
    queryFn: () => take(api.GET('/api/v1/stores/{name}/keys', { params: { path: { name } } })),
  });

export const useRecoverySheet = (name: string) =>
  useAct((label: string) =>
    take(api.POST('/api/v1/stores/{name}/keys/recovery-sheets', { params: { path: { name } }, body: { label } })),
  );

export const useWithdrawKey = (name: string) =>
  useAct((key: string) => take(api.DELETE('/api/v1/stores/{name}/keys/{key}', { params: { path: { name, key } } })));

export const useConfirmRun = () =>
  useAct((id: number) => take(api.POST('/api/v1/runs/{id}/confirm', { params: { path: { id } } })));

export const usePause = () =>
  useAct((ask: OneJob & { reason: string; until: string }) =>
    take(
      api.PUT('/api/v1/jobs/{name}/pause', {
        params: at(ask),
        body: { reason: ask.reason, until: ask.until },
      }),
    ),
  );

/** Lets nothing of a job expire until a day; what gave rise to it notes it. */
export const useHoldExpiry = () =>
  useAct((ask: OneJob & { reason: string; until: string; alertId: number | null }) =>
    take(
      api.PUT('/api/v1/jobs/{name}/expiry-hold', {
        params: at(ask),
        body: { reason: ask.reason, until: ask.until, alertId: ask.alertId },
      }),
    ),
  );

export const useLetExpire = () =>
  useAct((job: OneJob) => take(api.DELETE('/api/v1/jobs/{name}/expiry-hold', { params: at(job) })));

/** Whether the next copy of a job that makes partial ones is a full one, once. */
export const useNextFull = () =>
  useAct(({ full, ...job }: OneJob & { full: boolean }) =>
    take(
      full
        ? api.POST('/api/v1/jobs/{name}/next-full', { params: at(job) })
        : api.DELETE('/api/v1/jobs/{name}/next-full', { params: at(job) }),
    ),
  );

export const useResume = () =>
  useAct((job: OneJob) => take(api.DELETE('/api/v1/jobs/{name}/pause', { params: at(job) })));

export const useHold = () =>
  useAct((ask: { id: string; reason: string; until: string }) =>
    take(
      api.PUT('/api/v1/copies/{id}/hold', {
        params: { path: { id: ask.id } },
        body: { reason: ask.reason, until: ask.until },
      }),
    ),
  );

export const useRelease = () =>
  useAct((id: string) => take(api.DELETE('/api/v1/copies/{id}/hold', { params: { path: { id } } })));

export const useTakeBack = () =>
  useAct((id: string) => take(api.POST('/api/v1/copies/{id}/take-back', { params: { path: { id } } })));

export const useConfirmClock = () => useAct(() => take(api.POST('/api/v1/service/confirm-clock')));
