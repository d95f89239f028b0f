import { Button } from '@mantine/core';
import { Fragment, useState } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import { Refusal, type Job } from '../../api/client';
import {
  useHistory,
  useJob,
  useJobsOf,
  useLetExpire,
  useNextFull,
  usePause,
  useResume,
  useRunJob,
  useRuns,
} from '../../api/hooks';
import { AskUntil } from '../../ui/Ask';
import { Size, When } from '../../ui/Facts';
import { Answer, Notice, Page, Problem } from '../../ui/Page';
import { RunList } from '../runs/RunList';
import { RunProgress } from '../runs/RunProgress';
import { HistoryPlot } from './HistoryPlot';
import { JobValues } from './JobValues';
import { ManyMachines } from './ManyMachines';
import { WhenAndWhy } from './WhenAndWhy';

/** A job; of one that is on several machines the one that the address names, else all of them. */
export function JobPage() {
  const { name = '' } = useParams();
  const on = useSearchParams()[0].get('on') ?? undefined;
  const all = useJobsOf({ job: name });
  if (on !== undefined) return <OnePage name={name} on={on} />;
  if (!all.data)
    return (
      <Page title={name}>
        <Answer of={all}>{() => null}</Answer>
      </Page>
    );
  if (all.data.length === 0) return <OnNone name={name} />;
  return all.data.some((j) => j.onSeveral) ? (
    <ManyMachines name={name} jobs={all.data} />
  ) : (
    <OnePage name={name} on={on} />
  );
}

/** A job that no machine has now, or one that is not there at all. */
function OnNone({ name }: { name: string }) {
  const { error } = useJob({ name, on: undefined });
  const isThere = !(error instanceof Refusal && error.status === 404);
  return (
    <Page
      title={name}
      doing={
        isThere && (
          <Button component={Link} to={`/settings/job/${name}`} size="xs" variant="default">
            Change
          </Button>
        )
      }
    >
      {error && (
        <Notice tone={isThere ? 'warned' : 'failed'} title={isThere ? 'Done nowhere' : 'Not found'}>
          {error.message}
        </Notice>
      )}
    </Page>
  );
}

function OnePage({ name, on }: { name: string; on: string | undefined }) {
  const job = useJob({ name, on });
  const runs = useRuns({ job: name, machine: on, limit: 100 });
  const run = useRunJob();
  const history = useHistory({ name, on });
  const pause = usePause();
  const letExpire = useLetExpire();
  const resume = useResume();
  const [pausing, setPausing] = useState(false);
  const busy = job.data?.lastRun && job.data.lastRun.state !== 'ended';
  return (
    <Page
      title={job.data?.onSeveral ? `${name} on ${job.data.machine}` : name}
      facts={
        job.data &&
        (job.data.watched
          ? `watched, on ${job.data.machine}`
          : `on ${job.data.machine}, into ${job.data.into.join(' and ')}`)
      }
      doing={
        <>
          {(job.data?.into.length ?? 0) > 0 && (
            <>
              <Button
                component={Link}
                to={`/copies?job=${name}${on ? `&machine=${on}` : ''}`}
                size="xs"
                variant="default"
              >
                Copies
              </Button>
              {job.data?.watched === false && (
                <Button
                  component={Link}
                  to={`/jobs/${name}/compare${on ? `?on=${on}` : ''}`}
                  size="xs"
                  variant="default"
                >
                  What changed
                </Button>
              )}
              <Button component={Link} to={`/jobs/${name}/prune${on ? `?on=${on}` : ''}`} size="xs" variant="default">
                Prune plan
              </Button>
            </>
          )}
          <Button component={Link} to={`/settings/job/${name}`} size="xs" variant="default">
            Change
          </Button>
          {job.data && !job.data.pause && (
            <Button size="xs" variant="default" onClick={() => setPausing(true)}>
              Pause
            </Button>
          )}
          {job.data?.watched !== true && (
            <Button size="xs" disabled={Boolean(busy) || !job.data} onClick={() => run.mutate({ name, on })}>
              Run now
            </Button>
          )}
        </>
      }
    >
      <Problem error={run.error ?? resume.error} />
      {pausing && (
        <AskUntil
          title={`Pause ${name}`}
          does="Pause"
          days={3}
          pending={pause.isPending}
          error={pause.error}
          close={() => setPausing(false)}
          act={(reason, until) => pause.mutate({ name, on, reason, until }, { onSuccess: () => setPausing(false) })}
        >
          Its planned runs are held back and say why. Copies grow old meanwhile, and nothing of it expires once they are
          older than promised.
        </AskUntil>
      )}
      <Answer of={job}>
        {(j) => (
          <div className="columns">
            {j.pause && (
              <Notice tone="warned" title="Paused">
                By {j.pause.by} until <When at={j.pause.until} />: {j.pause.reason}{' '}
                <Button
                  size="compact-xs"
                  variant="default"
                  loading={resume.isPending}
                  onClick={() => resume.mutate({ name, on })}
                >
                  Resume
                </Button>
              </Notice>
            )}
            {j.expiryHold && (
              <Notice tone="warned" title="Expiry held">
                Nothing of it expires: by {j.expiryHold.by} until <When at={j.expiryHold.until} />:{' '}
                {j.expiryHold.reason}{' '}
                <Button
                  size="compact-xs"
                  variant="default"
                  loading={letExpire.isPending}
                  onClick={() => letExpire.mutate({ name, on })}
                >
                  Let it expire
                </Button>
              </Notice>
            )}
            {busy && j.lastRun && (
              <section className="sheet" style={{ padding: '11px 14px' }}>
                <Link to={`/runs/${j.lastRun.id}`}>Run {j.lastRun.id}</Link>
                <RunProgress run={j.lastRun} />
              </section>
            )}
            <div className="columns beside">
              <Definition job={j} />
              <Due job={j} />
            </div>
            <section className="sheet" aria-label="History">
              <h2>
                History{' '}
                <span className="facts">
                  {history.data && `${history.data.length} runs that ${j.watched ? 'ended' : 'left a copy'}`}
                </span>
              </h2>
              <Answer of={history}>{(points) => <HistoryPlot points={points} watched={j.watched} />}</Answer>
            </section>
            <WhenAndWhy name={name} on={on} />
            <section className="sheet" aria-label="Runs">
              <h2>Runs</h2>
              <Answer of={runs}>
                {(page) => (
                  <RunList
                    runs={page.items.filter((r) => !j.onSeveral || r.machine === j.machine)}
                    empty={
                      j.watched
                        ? 'Nothing was heard of this job yet.'
                        : 'This job has not run yet. Run it now to make its first copy.'
                    }
                  />
                )}
              </Answer>
            </section>
            <JobValues job={j} />
          </div>
        )}
      </Answer>
    </Page>
  );
}

function Definition({ job }: { job: Job }) {
  return (
    <section className="sheet" aria-label="Definition">
      <h2>What it does</h2>
      <dl className="facts-grid">
        {job.watched ? <Elsewhere job={job} /> : <Takes job={job} />}
        {job.into.length > 0 && <Keeps job={job} />}
      </dl>
    </section>
  );
}

/** How a job is heard of that something else carries out. */
function Elsewhere({ job }: { job: Job }) {
  return (
    <>
      <dt>carried out by</dt>
      <dd>something else on {job.machine}</dd>
      <dt>heard by</dt>
      <dd>
        {job.heardBy.map((h) => (
          <div key={h}>
            <HeardBy source={h} job={job} />
          </div>
        ))}
      </dd>
      {job.into.length > 0 && (
        <>
          <dt>leaves its copy in</dt>
          <dd>
            <Link to="/stores">{job.into.join(', ')}</Link>
          </dd>
        </>
      )}
      {job.note && (
        <>
          <dt>note</dt>
          <dd className="mono">{job.note}</dd>
        </>
      )}
    </>
  );
}

function HeardBy({ source, job }: { source: Job['heardBy'][number]; job: Job }) {
  switch (source) {
    case 'check-in':
      return (
        <>
          an address of its own, which <span className="mono">ironkeep job address {job.name}</span> makes; or{' '}
          <span className="mono">ironkeep watch {job.name} -- COMMAND</span>
        </>
      );
    case 'log':
      return (
        <>
          its log <span className="mono">{job.logs.join(', ')}</span>
          <Rules job={job} />
        </>
      );
    case 'syslog':
      return (
        <>
          syslog of <span className="mono">{job.syslog.join(', ')}</span>
          <Rules job={job} />
        </>
      );
    case 'folder':
      return <>the files that come in {job.into.join(' and ')}</>;
  }
}

function Rules({ job }: { job: Job }) {
  if (job.logRules === null) return null;
  return (
    <span className="soft">
      , judged by <Link to={`/settings/log-rules/${job.logRules}`}>{job.logRules}</Link>
    </span>
  );
}

function Takes({ job }: { job: Job }) {
  return (
    <>
      <dt>backs up</dt>
      <dd className="mono">
        {job.takes.map((t) => (
          <div key={t}>{t}</div>
        ))}
        {job.streams.map((s) => (
          <div key={s}>
            what <Step name={s} /> gives
          </div>
        ))}
      </dd>
      {job.steps && <Steps steps={job.steps} />}
      {job.partials !== null && <Partials job={job} />}
      {job.leavesOut.length > 0 && (
        <>
          <dt>leaves out</dt>
          <dd className="mono">{job.leavesOut.join('  ')}</dd>
        </>
      )}
    </>
  );
}

/** What is made between full copies, and a way to have a full one next. */
function Partials({ job }: { job: Job }) {
  const next = useNextFull();
  const asked = job.fullAskedBy !== null;
  return (
    <>
      <dt>copies are</dt>
      <dd>
        {job.partials}
        {asked && <span className="soft"> · the next is full, {job.fullAskedBy} asked for it</span>}
        <div>
          <Button
            size="compact-xs"
            variant="default"
            loading={next.isPending}
            onClick={() => next.mutate({ name: job.name, on: job.machine, full: !asked })}
          >
            {asked ? 'Go on with the chain' : 'Next one full'}
          </Button>
        </div>
        <Problem error={next.error} />
      </dd>
    </>
  );
}

const Step = ({ name }: { name: string }) => <Link to={`/settings/step/${name}`}>{name}</Link>;

/** What runs around the copies, in the order in which it does. */
function Steps({ steps }: { steps: NonNullable<Job['steps']> }) {
  const around: [string, string[]][] = [
    ['before', steps.before],
    ['until', steps.until === null ? [] : [steps.until]],
    ['on success', steps.afterSuccess],
    ['on failure', steps.afterFailure],
    ['always after', steps.alwaysAfter],
  ];
  return around
    .filter(([, names]) => names.length > 0)
    .map(([when, names]) => (
      <Fragment key={when}>
        <dt>{when}</dt>
        <dd>
          {names.map((name, i) => (
            <Fragment key={name}>
              {i > 0 && ', '}
              <Step name={name} />
            </Fragment>
          ))}
        </dd>
      </Fragment>
    ));
}

function Keeps({ job }: { job: Job }) {
  return (
    <>
      <dt>keeps</dt>
      <dd>
        {job.keep}{' '}
        <span className="soft">
          (policy <Link to={`/settings/policy/${job.policy}`}>{job.policy}</Link>)
        </span>
      </dd>
      <dt>promise</dt>
      <dd>{job.freshWithin ? `the newest good copy is at most ${job.freshWithin} old` : 'no freshness limit'}</dd>
      <dt>newest good copy</dt>
      <dd>
        {job.newestGoodCopy ? (
          <>
            <Link to={`/copies/${encodeURIComponent(job.newestGoodCopy.id)}`}>{job.newestGoodCopy.id}</Link>,{' '}
            <When at={job.newestGoodCopy.taken} />, <Size bytes={job.newestGoodCopy.bytes} />
          </>
        ) : (
          'none yet'
        )}
        {job.stale && <span className="tone-failed"> stale: older than promised</span>}
      </dd>
    </>
  );
}

function Due({ job }: { job: Job }) {
  return (
    <section className="sheet" aria-label="Next due">
      <h2>
        {job.when ?? (job.after ? `After ${job.after} has succeeded` : 'By hand only')}{' '}
        <span className="facts">{job.zone}</span>
      </h2>
      {job.nextDue.length === 0 ? (
        <div className="empty">It only runs when somebody starts it.</div>
      ) : (
        <table className="rows whole">
          <thead>
            <tr>
              <th scope="col">next due, local</th>
              <th scope="col" className="wide-only">
                UTC
              </th>
              <th scope="col" className="num" />
            </tr>
          </thead>
          <tbody>
            {job.nextDue.map((d) => (
              <tr key={d.utc}>
                <td>
                  {d.local.slice(0, 16).replace('T', ' ')} {d.local.slice(19)}
                </td>
                <td className="wide-only">{d.utc.slice(0, 16).replace('T', ' ')}</td>
                <td className="num soft">
                  <When at={d.utc} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
