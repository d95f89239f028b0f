import { Button, Select, TextInput } from '@mantine/core';
import { Link, useNavigate } from 'react-router';
import type { Job } from '../../api/client';
import { useJobs, useRunJob } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Answer, Page, Problem } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Rows } from '../../ui/Rows';
import { stateOf } from '../duty/NightBoard';
import { RunProgress } from '../runs/RunProgress';
import { Glyph, Status } from '../../ui/Status';

const states = {
  trouble: (j: Job) => j.stale || !['ok', 'warned', 'not-needed', null, undefined].includes(j.lastRun?.outcome),
  stale: (j: Job) => j.stale,
  paused: (j: Job) => j.pause !== null,
  running: (j: Job) => j.lastRun !== null && j.lastRun.state !== 'ended',
} as const;

/** Where a job is on its own page. */
const pathOf = (job: Job) => `/jobs/${job.name}${job.onSeveral ? `?on=${job.machine}` : ''}`;

/** A watched job that leaves no copies where the service sees them is known by what was heard of it alone. */
const leavesNothing = (job: Job) => job.watched && job.into.length === 0;

const fits = (job: Job, words: string) =>
  words
    .toLowerCase()
    .split(/\s+/)
    .every((w) =>
      [
        job.name,
        job.machine,
        ...job.into,
        job.policy,
        job.when ?? (job.after ? `after ${job.after}` : 'by hand'),
        job.lastRun?.outcome ?? '',
        job.stale ? 'stale' : '',
        job.pause ? 'paused' : '',
      ]
        .join(' ')
        .includes(w),
    );

export function JobsPage() {
  const jobs = useJobs();
  const run = useRunJob();
  const navigate = useNavigate();
  const [params, set] = useFilters();
  const words = params.get('find') ?? '';
  const state = params.get('state');
  const isShown = (state && states[state as keyof typeof states]) || (() => true);
  return (
    <Page
      title="Jobs"
      facts={jobs.data && count(jobs.data.length, 'job')}
      doing={
        <>
          <Select
            size="xs"
            w={130}
            clearable
            placeholder="Every state"
            aria-label="State"
            data={Object.keys(states)}
            value={state}
            onChange={(value) => set({ state: value })}
          />
          <TextInput
            data-search
            size="xs"
            w={230}
            placeholder="Find by name, store, outcome"
            aria-label="Find jobs"
            value={words}
            onChange={(e) => set({ find: e.currentTarget.value })}
          />
          <Button component={Link} to="/settings/job/new" size="xs" variant="default">
            New job
          </Button>
        </>
      }
    >
      <Problem error={run.error} />
      <Answer of={jobs}>
        {(all) => (
          <div className="sheet">
            <Rows
              label="Jobs"
              rows={all.filter((j) => isShown(j) && fits(j, words))}
              rowKey={(j) => `${j.name} ${j.machine}`}
              open={(j) => void navigate(pathOf(j))}
              empty={
                all.length === 0 ? (
                  <>
                    No jobs yet. <Link to="/settings/job/new">Make one</Link>, or{' '}
                    <Link to="/settings/charter">paste a charter</Link>.
                  </>
                ) : (
                  'No job fits these words; take some away.'
                )
              }
              columns={[
                {
                  title: 'job',
                  cell: (j) => (
                    <>
                      <Link to={pathOf(j)} onClick={(e) => e.stopPropagation()} style={{ fontWeight: 550 }}>
                        {j.name}
                      </Link>
                      {j.onSeveral && (
                        <>
                          {' '}
                          <span className="soft" style={{ whiteSpace: 'nowrap' }}>
                            on {j.machine}
                          </span>
                        </>
                      )}
                    </>
                  ),
                },
                {
                  title: 'when',
                  cell: (j) => (
                    <>
                      {j.when ?? (j.after ? `after ${j.after}` : 'by hand')}
                      {j.pause && <Status state="held-back"> paused</Status>}
                    </>
                  ),
                },
                { title: 'last run', cell: (j) => <LastRun job={j} /> },
                { title: 'last nights', cell: (j) => <LastNights job={j} /> },
                {
                  title: 'next due',
                  cell: (j) => (j.nextDue[0] ? <When at={j.nextDue[0].utc} /> : <span className="soft">–</span>),
                },
                {
                  title: 'newest good copy',
                  num: true,
                  cell: (j) =>
                    leavesNothing(j) ? null : (
                      <>
                        <When at={j.newestGoodCopy?.taken} />
                        {j.stale && <span className="tone-failed"> stale</span>}
                      </>
                    ),
                },
                {
                  title: 'size',
                  num: true,
                  cell: (j) => (leavesNothing(j) ? null : <Size bytes={j.newestGoodCopy?.bytes} />),
                },
                { title: 'copies', num: true, cell: (j) => (leavesNothing(j) ? null : j.copies) },
                {
                  title: '',
                  num: true,
                  cell: (j) =>
                    !j.watched && (
                      <Button
                        size="compact-xs"
                        variant="default"
                        aria-label={`Run ${j.name} now`}
                        disabled={j.lastRun !== null && j.lastRun.state !== 'ended'}
                        onClick={(e) => {
                          e.stopPropagation();
                          run.mutate({ name: j.name, on: j.machine });
                        }}
                      >
                        Run now
                      </Button>
                    ),
                },
              ]}
            />
          </div>
        )}
      </Answer>
    </Page>
  );
}

function LastRun({ job }: { job: Job }) {
  const run = job.lastRun;
  if (!run) return <span className="soft">{job.watched ? 'not heard of yet' : 'never ran'}</span>;
  if (job.watched && run.state !== 'ended')
    return (
      <>
        <Status state="running">at work</Status>{' '}
        <span className="soft">
          heard <When at={run.began} />
        </span>
      </>
    );
  if (run.state !== 'ended') return <RunProgress run={run} brief />;
  return (
    <>
      <Status state={run.outcome ?? run.state} />{' '}
      <span className="soft">
        {job.watched && 'heard '}
        <When at={run.ended} />
      </span>
    </>
  );
}

function LastNights({ job }: { job: Job }) {
  return (
    <span style={{ display: 'inline-flex', gap: 2 }}>
      {job.nights.slice(-7).map((n) => (
        <Glyph key={n.date} state={stateOf(n)} label={`${n.date}: ${stateOf(n) ?? 'none planned'}`} />
      ))}
    </span>
  );
}
