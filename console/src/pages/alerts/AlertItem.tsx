import { Button } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { Link } from 'react-router';
import type { Alert } from '../../api/client';
import { useAcknowledge } from '../../api/hooks';
import { usePresent, When } from '../../ui/Facts';
import { short, took } from '../../ui/format';
import { Problem } from '../../ui/Page';
import { Glyph } from '../../ui/Status';
import { CloseDialog } from './CloseDialog';
import { useRemedy } from './remedies';
import { isGrave, stakes } from './stakes';

/** One matter in two lines: what and since when, and why; behind the fold the rest of it, and what to do. */
export function AlertItem({ alert: a }: { alert: Alert }) {
  const acknowledge = useAcknowledge();
  const { zone } = usePresent();
  const remedy = useRemedy(a);
  const [unfolded, { toggle }] = useDisclosure(false);
  const [closing, { open: beginClosing, close: endClosing }] = useDisclosure(false);
  const length = a.closedAt ? (Date.parse(a.closedAt) - Date.parse(a.openedAt)) / 1000 : null;
  return (
    <article className="alert-item" data-open={unfolded || undefined}>
      <Glyph state={a.class === 'unsound' ? 'failed' : a.class} label={a.class} />
      <div>
        <div className="alert-head">
          <Link to={`/alerts/${a.id}`} className="what">
            {a.subject.words}
          </Link>
          <span className="soft">
            {a.class}
            {isGrave(a) && `, ${stakes[a.severity]}`}
            {a.state === 'known' && a.knownUntil && `, known until ${short(a.knownUntil, zone)}`} ·{' '}
            <When at={a.openedAt} />
            {a.count > 1 && ` · ${a.count} times`}
            {length !== null && (
              <>
                {' '}
                · closed <When at={a.closedAt} /> after {took(length)}
              </>
            )}
            {a.runId !== null && (
              <>
                {' '}
                · <Link to={`/runs/${a.runId}`}>run {a.runId}</Link>
              </>
            )}
            {a.state !== 'open' && a.acknowledgedBy && ` · seen by ${a.acknowledgedBy}`}
          </span>
        </div>
        <div className="alert-line">
          <p title={unfolded ? undefined : a.message}>{a.message}</p>
          <button
            type="button"
            className="fold"
            aria-expanded={unfolded}
            aria-label={`${unfolded ? 'Less' : 'More'} about ${a.subject.words}`}
            onClick={toggle}
          >
            {unfolded ? 'Less' : 'More'}
          </button>
        </div>
        {unfolded && (
          <div className="alert-more">
            {a.affected.length > 1 && (
              <p>
                Affects {a.affected.length}: {a.affected.join(', ')}.
              </p>
            )}
            {a.state !== 'closed' && <p className="soft">{a.remedy}</p>}
            {a.state === 'known' && (
              <p>
                Known to {a.knownBy}: {a.knownReason}
              </p>
            )}
            {a.closedBy && (
              <p>
                Closed by {a.closedBy}: {a.closedReason}
              </p>
            )}
            <span className="doing">
              <Button component={Link} to={`/alerts/${a.id}`} size="compact-sm" variant="default">
                All about it
              </Button>
              {a.runId !== null && (
                <Button component={Link} to={`/runs/${a.runId}`} size="compact-sm" variant="default">
                  The run
                </Button>
              )}
              {a.subject.job && (
                <Button
                  component={Link}
                  to={`/jobs/${a.subject.job}${a.subject.machine ? `?on=${a.subject.machine}` : ''}`}
                  size="compact-sm"
                  variant="default"
                >
                  The job
                </Button>
              )}
              {a.state !== 'closed' && (
                <Button size="compact-sm" variant="default" onClick={beginClosing}>
                  Close…
                </Button>
              )}
            </span>
          </div>
        )}
        <Problem error={acknowledge.error ?? remedy?.error ?? null} />
      </div>
      <div className="alert-doing">
        {remedy?.to && (
          <Button component={Link} to={remedy.to} size="compact-sm" variant="light">
            {remedy.label}
          </Button>
        )}
        {remedy?.act && (
          <Button size="compact-sm" variant="light" onClick={remedy.act} loading={remedy.pending ?? false}>
            {remedy.label}
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
      </div>
      {closing && <CloseDialog id={a.id} close={endClosing} />}
    </article>
  );
}
