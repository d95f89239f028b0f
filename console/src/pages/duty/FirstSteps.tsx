import { Button } from '@mantine/core';
import { Link } from 'react-router';
import { useCopies, useDefinitions, useJobs, useRunJob, useRuns } from '../../api/hooks';
import { Problem } from '../../ui/Page';
import { Status } from '../../ui/Status';
import { RunProgress } from '../runs/RunProgress';

/** From an empty service to the first restored file: what is done, what comes next, and the button that does it. */
export function FirstSteps() {
  const definitions = useDefinitions();
  const jobs = useJobs();
  const copies = useCopies({});
  const restores = useRuns({ kind: 'restore', limit: 1 });
  const run = useRunJob();
  const has = (kind: string) => (definitions.data ?? []).some((d) => d.kind === kind);
  const job = jobs.data?.[0];
  const copy = copies.data?.pages[0]?.items[0];
  const go = (to: string, label: string) => (
    <Button component={Link} to={to} size="xs">
      {label}
    </Button>
  );
  const steps = [
    {
      title: 'A store: the folder that will hold the copies',
      done: has('store'),
      doing: go('/settings/store/new', 'Make a store'),
    },
    {
      title: 'A policy: how long copies stay, in a sentence',
      done: has('policy'),
      doing: go('/settings/policy/new', 'Make a policy'),
    },
    { title: 'A job: what to take, and when', done: has('job'), doing: go('/settings/job/new', 'Make a job') },
    {
      title: 'Run it now, and watch it',
      done: copy !== undefined,
      doing:
        job?.lastRun && job.lastRun.state !== 'ended' ? (
          <RunProgress run={job.lastRun} brief />
        ) : (
          <Button size="xs" loading={run.isPending} onClick={() => job && run.mutate({ name: job.name })}>
            Run {job?.name}
          </Button>
        ),
    },
    {
      title: 'Look into the copy, choose one file and restore it',
      done: (restores.data?.items.length ?? 0) > 0,
      doing: go(`/copies/${encodeURIComponent(copy?.id ?? '')}`, 'Look into the copy'),
    },
  ];
  const next = steps.findIndex((s) => !s.done);
  return (
    <section className="sheet" aria-label="First steps" style={{ maxWidth: 720 }}>
      <h2>From nothing to the first restored file</h2>
      <ol className="steps">
        {steps.map((s, i) => (
          <li key={s.title} aria-current={i === next ? 'step' : undefined}>
            <Status state={s.done ? 'ok' : i === next ? 'running' : 'unchecked'}>
              <span style={{ fontWeight: i === next ? 600 : 400 }}>{s.title}</span>
            </Status>
            {s.done && <span className="soft"> done</span>}
            {i === next && <div style={{ marginTop: 8 }}>{s.doing}</div>}
          </li>
        ))}
      </ol>
      <Problem error={run.error} />
      <p className="soft" style={{ padding: '0 14px 12px', margin: 0 }}>
        Or <Link to="/settings/charter">paste a charter</Link>, which declares all of it at once.
      </p>
    </section>
  );
}
