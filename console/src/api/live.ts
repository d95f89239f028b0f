import { useQueryClient, type QueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import type { Job, Run, Schemas } from './client';
import { movable } from './hooks';

/** Puts a run as it is now wherever it is shown, without asking the service again. */
export function placeRun(queries: QueryClient, run: Run) {
  queries.setQueryData(['run', run.id], run);
  const inJob = (job: Job) =>
    run.kind === 'backup' && job.name === run.job && (job.lastRun === null || job.lastRun.id <= run.id)
      ? { ...job, lastRun: run }
      : job;
  queries.setQueryData<Job[]>(['jobs'], (jobs) => jobs?.map(inJob));
  if (run.job) queries.setQueryData<Job>(['jobs', run.job], (job) => job && inJob(job));
}

/** Listens to the service for as long as the console is open; tells whether the stream stands. */
export function useLive() {
  const queries = useQueryClient();
  const [connected, setConnected] = useState(true);
  useEffect(() => {
    const source = new EventSource('/api/v1/events');
    const known = new Set<number>();
    let greeted = false;
    source.onopen = () => {
      setConnected(true);
      greeted = false;
      void queries.invalidateQueries({ predicate: movable });
    };
    source.onerror = () => setConnected(false);
    source.onmessage = (message: MessageEvent<string>) => {
      const event = JSON.parse(message.data) as Schemas['KeepEvent'];
      const ask = (...keys: string[]) => keys.forEach((key) => void queries.invalidateQueries({ queryKey: [key] }));
      switch (event.topic) {
        case 'hello':
          // Said again in the middle of a stream: something may have been missed.
          if (greeted) void queries.invalidateQueries({ predicate: movable });
          greeted = true;
          return;
        case 'run': {
          if (!event.run) return;
          placeRun(queries, event.run);
          const isNew = !known.has(event.run.id);
          known.add(event.run.id);
          // Progress moves numbers in place; a beginning or an end changes lists and sums.
          if (isNew || event.run.state === 'ended') ask('runs', 'jobs', 'duty', 'stores', 'run-log');
          return;
        }
        case 'copies':
          return ask('copies', 'stores', 'jobs');
        case 'alert':
          return ask('duty', 'alerts', 'channels');
        case 'charter':
          return ask('jobs', 'duty', 'stores', 'timetable', 'charter', 'session', 'service', 'machines');
        default:
          event.topic satisfies never;
      }
    };
    return () => source.close();
  }, [queries]);
  return connected;
}
