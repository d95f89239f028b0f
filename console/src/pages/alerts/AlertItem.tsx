import { Button } from '@mantine/core';
import { useState } from 'react';
import { Link } from 'react-router';
import type { Alert } from '../../api/client';
import { useAcknowledge, useConfirmClock, useConfirmRun, useJobs, useRunJob, useStoreAct } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { took } from '../../ui/format';
import { Problem } from '../../ui/Page';
import { Glyph } from '../../ui/Status';
import { CloseDialog } from './CloseDialog';

/** One matter: what, since when, why, what to do, and the button that does it. */
export function AlertItem({ alert: a }: { alert: Alert }) {
  const acknowledge = useAcknowledge();
  const [closing, setClosing] = useState(false);
  const length = a.closedAt ? (Date.parse(a.closedAt) - Date.parse(a.openedAt)) / 1000 : null;
  return (
    <article className="alert-item">
      <Glyph state={a.class === 'unsound' ? 'failed' : a.class} label={a.class} />
      <div>
        <span className="what">{a.subject.words}</span>{' '}
        <span className="soft">
          {a.class}, since <When at={a.openedAt} />
          {a.count > 1 && `, ${a.count} times`}
          {length !== null && (
            <>
              , closed <When at={a.closedAt} /> after {took(length)}
            </>
          )}
        </span>
        <p>{a.message}</p>
        {a.affected.length > 1 && <p>Affects {a.affected.join(', ')}.</p>}
        {a.state !== 'closed' && <p className="soft">{a.remedy}</p>}
        {a.closedBy && (
          <p>
            Closed by {a.closedBy}: {a.closedReason}
          </p>
        )}
        <Problem error={acknowledge.error} />
      </div>
      <div className="alert-doing">
        {a.state !== 'closed' && <Remedy alert={a} />}
        {a.runId !== null && (
          <Button component={Link} to={`/runs/${a.runId}`} size="compact-sm" variant="default">
            The run
          </Button>
        )}
        {a.state === 'open' && (
          <Button
            size="compact-sm"
            variant="subtle"
            color="gray"
            onClick={() => acknowledge.mutate(a.id)}
            loading={acknowledge.isPending}
          >
            Acknowledge
          </Button>
        )}
        {a.state !== 'closed' && (
          <Button size="compact-sm" variant="subtle" color="gray" onClick={() => setClosing(true)}>
            Close…
          </Button>
        )}
        {closing && <CloseDialog id={a.id} close={() => setClosing(false)} />}
        {a.state !== 'open' && a.acknowledgedBy && <span className="soft">seen by {a.acknowledgedBy}</span>}
      </div>
    </article>
  );
}

/** The button that does what the remedy says, where one click can. */
function Remedy({ alert: a }: { alert: Alert }) {
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
  const act = (label: string, does: () => void, pending: boolean) => (
    <Button size="compact-sm" variant="light" onClick={does} loading={pending}>
      {label}
    </Button>
  );
  if (a.class === 'suspect' && a.runId !== null)
    return act('Confirm the run', () => confirm.mutate(a.runId ?? 0), confirm.isPending);
  if (a.class === 'clock') return act('Confirm the clock', () => clock.mutate(undefined), clock.isPending);
  if (a.class === 'untold')
    return (
      <Button component={Link} to="/alerts" size="compact-sm" variant="light">
        The channels
      </Button>
    );
  if (pruned)
    return (
      <Button component={Link} to={`/jobs/${pruned}/prune`} size="compact-sm" variant="light">
        The plan
      </Button>
    );
  if (store && a.class === 'nearly-full') return act('Reclaim', () => reclaim.mutate(store), reclaim.isPending);
  if (store) return act('Check the store', () => check.mutate(store), check.isPending);
  // What something else carries out can only be looked at here.
  if (job && jobs.data?.find((j) => j.name === job)?.watched)
    return (
      <Button component={Link} to={`/jobs/${job}`} size="compact-sm" variant="light">
        The job
      </Button>
    );
  if (job) return act('Run now', () => runJob.mutate(job), runJob.isPending);
  return null;
}
