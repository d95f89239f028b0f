import { QueryClient } from '@tanstack/react-query';
import { expect, test } from 'vitest';
import type { Job, Run } from './client';
import { placeRun } from './live';

const run = (id: number, changes: Partial<Run> = {}) =>
  ({ id, kind: 'backup', job: 'register', state: 'running', ...changes }) as Run;
const job = (name: string, lastRun: Run | null) => ({ name, lastRun }) as Job;

test('a run at work moves in the job that it is of, and nowhere else', () => {
  const queries = new QueryClient();
  queries.setQueryData(['jobs'], [job('register', run(4)), job('cameras', null)]);
  queries.setQueryData(['jobs', 'register'], job('register', null));
  placeRun(queries, run(5));
  expect(queries.getQueryData<Job[]>(['jobs'])?.map((j) => j.lastRun?.id)).toEqual([5, undefined]);
  expect(queries.getQueryData<Job>(['jobs', 'register'])?.lastRun?.id).toBe(5);
  // A late word of an older run, or of a restore, does not take the place of a newer backup.
  placeRun(queries, run(4, { state: 'ended' }));
  placeRun(queries, run(6, { kind: 'restore' }));
  expect(queries.getQueryData<Job[]>(['jobs'])?.[0]?.lastRun?.id).toBe(5);
  expect(queries.getQueryData<Run>(['run', 6])?.kind).toBe('restore');
});
