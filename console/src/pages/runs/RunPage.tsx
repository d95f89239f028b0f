import { Fragment } from 'react';
import { Button, SegmentedControl } from '@mantine/core';
import { Link, useParams, useSearchParams } from 'react-router';
import type { Run } from '../../api/client';
import { useCancelRun, useConfirmRun, usePreviousRun, useRun, useRunLog } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { count, size, took } from '../../ui/format';
import { Answer, Page, Problem } from '../../ui/Page';
import { Glyph, Status } from '../../ui/Status';
import { RunProgress } from './RunProgress';

const toneOf: Record<string, string> = { error: 'failed', warning: 'warned', info: 'none' };

export function RunPage() {
  const id = Number(useParams().id);
  const run = useRun(id);
  const [params, setParams] = useSearchParams();
  const severity = params.get('severity') ?? 'info';
  const log = useRunLog(run.data, severity);
  const decided = new Map((run.data?.evidence?.lines ?? []).map((l) => [l.text, l.list]));
  const confirm = useConfirmRun();
  const cancel = useCancelRun();
  const r = run.data;
  return (
    <Page
      title={`Run ${id}`}
      facts={r && `${r.kind === 'watched' ? 'watched run' : r.kind} of ${r.job ?? r.store}, ${causeOf(r)}`}
      doing={
        <>
          {r?.copyIds.map((copy, i) => (
            <Button key={copy} component={Link} to={`/copies/${encodeURIComponent(copy)}`} size="xs" variant="default">
              {r.copyIds.length === 1 ? 'The copy' : `Copy ${i + 1}`}
            </Button>
          ))}
          {r && (r.outcome === 'suspect' || (r.surge && !r.surgeSeenBy)) && !r.confirmedBy && (
            <Button size="xs" loading={confirm.isPending} onClick={() => confirm.mutate(id)}>
              Confirm the run
            </Button>
          )}
          {r && r.state !== 'ended' && r.kind !== 'watched' && (
            <Button size="xs" variant="default" onClick={() => cancel.mutate(id)}>
              Cancel
            </Button>
          )}
        </>
      }
    >
      <Problem error={cancel.error ?? confirm.error} />
      <Answer of={run}>
        {(at) => (
          <div className="columns">
            <Ending run={at} />
            {at.evidence && <Heard evidence={at.evidence} />}
            <section className="sheet" aria-label="Log">
              <h2 style={{ alignItems: 'center' }}>
                Log <span className="facts">{log.data && count(log.data.lines.length, 'line')}</span>
                <SegmentedControl
                  size="xs"
                  ml="auto"
                  aria-label="Severity"
                  value={severity}
                  onChange={(value) => setParams(value === 'info' ? {} : { severity: value }, { replace: true })}
                  data={[
                    { value: 'info', label: 'All' },
                    { value: 'warning', label: 'Warnings' },
                    { value: 'error', label: 'Errors' },
                  ]}
                />
              </h2>
              <div className="log" tabIndex={0}>
                {log.data?.lines.length === 0 && (
                  <span className="soft">{severity === 'info' ? 'Nothing yet.' : 'Nothing so severe.'}</span>
                )}
                {log.data?.lines.map((line, i) => (
                  <div
                    key={i}
                    className={decided.has(line.text) ? 'decided' : undefined}
                    title={decided.has(line.text) ? `counted as ${decided.get(line.text)}` : undefined}
                  >
                    <span className="at">{line.at.slice(11, 19)}</span>{' '}
                    <Glyph state={toneOf[line.severity] ?? 'none'} label={line.severity} /> {line.text}
                  </div>
                ))}
              </div>
            </section>
          </div>
        )}
      </Answer>
    </Page>
  );
}

/** Where each thing that was heard of a watched run came from. */
function Heard({ evidence }: { evidence: NonNullable<Run['evidence']> }) {
  return (
    <section className="sheet" aria-label="What was heard">
      <h2>What was heard</h2>
      <dl className="facts-grid">
        {evidence.heard.map((h, i) => (
          <Fragment key={i}>
            <dt>{h.source}</dt>
            <dd>
              {h.what}{' '}
              <span className="soft">
                received <When at={h.received} />
              </span>
              {h.at !== null && h.at !== h.received && (
                <span className="soft">
                  , by its own clock <When at={h.at} />
                </span>
              )}
            </dd>
          </Fragment>
        ))}
        {evidence.lines.map((l, i) => (
          <Fragment key={`line ${i} ${l.line} ${l.list}`}>
            <dt>
              line {l.line}, {l.list}
            </dt>
            <dd className="mono">{l.text}</dd>
          </Fragment>
        ))}
      </dl>
    </section>
  );
}

function causeOf(r: Run): string {
  switch (r.by.kind) {
    case 'schedule':
      return 'by schedule';
    case 'catch-up':
      return 'making up for missed runs';
    case 'run':
      return `after run ${r.by.runId}`;
    case 'person':
      return `asked for by ${r.by.name}`;
    case 'service':
      return `by the service (${r.by.name})`;
    case 'elsewhere':
      return `carried out by something else on ${r.machine}`;
  }
}

/** A figure of the run before this one, and by how much this one differs. */
function Before({ now, before, text }: { now: number; before: number | undefined; text: (n: number) => string }) {
  if (before === undefined) return null;
  const off = before === 0 ? null : ((now - before) / before) * 100;
  return (
    <span className="soft">
      {' '}
      · before {text(before)}
      {off !== null && Math.abs(off) >= 0.05 && ` (${off > 0 ? '+' : '−'}${Math.abs(off).toFixed(1)} %)`}
    </span>
  );
}

function Ending({ run }: { run: Run }) {
  const f = run.figures;
  const previous = usePreviousRun(run).data?.run;
  const b = run.state === 'ended' ? previous?.figures : undefined;
  return (
    <section className="sheet" aria-label="Outcome">
      <h2>
        {run.state === 'ended' ? <Status state={run.outcome ?? 'ended'} /> : <Status state={run.state} />}
        {run.failure && <span className="facts">{run.failure}</span>}
      </h2>
      <div style={{ padding: '11px 14px 0' }}>
        {run.state === 'ended' ? run.sentence : <RunProgress run={run} />}
        {run.remedy && <div className="soft">{run.remedy}</div>}
        {run.surge && (
          <div>
            <Status state={run.surgeSeenBy ? 'warned' : 'failed'}>
              {run.surgeSeenBy
                ? `Looked at by ${run.surgeSeenBy}`
                : 'Nothing of the job expires until somebody has looked'}
            </Status>
            : {run.surge}.
          </div>
        )}
        {run.confirmedBy && (
          <div className="soft">
            confirmed by {run.confirmedBy} <When at={run.confirmedAt} />
          </div>
        )}
        {previous && run.state === 'ended' && (
          <div className="soft">
            beside it <Link to={`/runs/${previous.id}`}>run {previous.id}</Link>, the one before
          </div>
        )}
      </div>
      <dl className="facts-grid">
        {run.churn && (
          <>
            <dt>files before</dt>
            <dd>
              {run.churn.before.toLocaleString('en')}, of them {run.churn.altered.toLocaleString('en')} with other
              content and {run.churn.gone.toLocaleString('en')} gone; {run.churn.added.toLocaleString('en')} new
            </dd>
          </>
        )}
        {run.due && (
          <>
            <dt>due</dt>
            <dd>
              <When at={run.due} />
            </dd>
          </>
        )}
        <dt>began</dt>
        <dd>
          <When at={run.began} />
          {run.ended && `, took ${took(f.elapsedSeconds)}`}
          {run.ended && f.bytesPerSecond !== null && f.bytesPerSecond > 0 && (
            <>
              , <Size bytes={Math.round(f.bytesPerSecond)} /> a second
            </>
          )}
        </dd>
        {run.kind === 'watched' && run.state === 'ended' && (
          <>
            <dt>figures</dt>
            <dd>
              {f.items === 0 && f.selectedBytes === 0 ? (
                'it told none'
              ) : (
                <>
                  {count(f.items, 'item')}, <Size bytes={f.selectedBytes} />
                  <Before now={f.selectedBytes} before={b?.selectedBytes} text={size} />
                  {f.skipped > 0 && `, ${f.skipped} skipped`}
                </>
              )}
            </dd>
            {run.exitCode !== null && (
              <>
                <dt>exit code</dt>
                <dd>{run.exitCode}</dd>
              </>
            )}
          </>
        )}
        {run.kind === 'backup' && (
          <>
            <dt>taken</dt>
            <dd>
              {count(f.items, 'item')}, <Size bytes={f.selectedBytes} />
              <Before now={f.selectedBytes} before={b?.selectedBytes} text={size} />
              {b && b.items !== f.items && <Before now={f.items} before={b.items} text={(n) => count(n, 'item')} />}
            </dd>
            <dt>read</dt>
            <dd>
              <Size bytes={f.readBytes} /> <span className="soft">had changed</span>
              <Before now={f.readBytes} before={b?.readBytes} text={size} />
            </dd>
            <dt>new</dt>
            <dd>
              <Size bytes={f.newBytes} /> <span className="soft">the store did not have</span>
            </dd>
            <dt>stored</dt>
            <dd>
              <Size bytes={f.storedBytes} /> <span className="soft">compressed</span>
              <Before now={f.storedBytes} before={b?.storedBytes} text={size} />
            </dd>
            <dt>skipped</dt>
            <dd>{f.skipped === 0 ? 'nothing' : count(f.skipped, 'item')}</dd>
          </>
        )}
      </dl>
    </section>
  );
}
