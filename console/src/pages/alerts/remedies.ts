import type { Alert } from '../../api/client';
import { useConfirmClock, useConfirmRun, useJobs, useRunJob, useStoreAct } from '../../api/hooks';

/** What one click can do about an alert: an act, or the page where a person decides. */
export interface RemedyButton {
  label: string;
  to?: string;
  act?: () => void;
  /** Runs the job again, which an alert's own page asks about first. */
  reruns?: boolean;
  pending?: boolean;
  error?: Error | null;
}

/** The button that does what the remedy says; undefined where none can. */
export function useRemedy(a: Alert): RemedyButton | undefined {
  const runJob = useRunJob();
  const jobs = useJobs();
  const confirm = useConfirmRun();
  const check = useStoreAct('checks');
  const reclaim = useStoreAct('reclaims');
  const clock = useConfirmClock();
  const of = (kind: Alert['subject']['kind'], name: string | null) => (a.subject.kind === kind ? name : null);
  const job = of('job', a.subject.job);
  const store = of('store', a.subject.store);
  const pruned = of('prune', a.subject.job);
  const act = (label: string, does: () => void, by: { isPending: boolean; error: Error | null }) => ({
    label,
    act: does,
    pending: by.isPending,
    error: by.error,
  });
  if (a.state === 'closed') return undefined;
  if ((a.class === 'suspect' || a.class === 'surge') && a.runId !== null)
    return act('Confirm the run', () => confirm.mutate(a.runId ?? 0), confirm);
  if (a.class === 'clock') return act('Confirm the clock', () => clock.mutate(undefined), clock);
  if (a.class === 'untold') return { label: 'The channels', to: '/alerts' };
  if (pruned) return { label: 'The plan', to: `/jobs/${pruned}/prune` };
  if (store && a.class === 'nearly-full') return act('Reclaim', () => reclaim.mutate(store), reclaim);
  if (store) return act('Check the store', () => check.mutate(store), check);
  // What something else carries out can only be looked at here.
  if (job && jobs.data?.find((j) => j.name === job)?.watched) return { label: 'The job', to: `/jobs/${job}` };
  if (job)
    return {
      ...act('Run now', () => runJob.mutate({ name: job, on: a.subject.machine ?? undefined }), runJob),
      reruns: true,
    };
  return undefined;
}
