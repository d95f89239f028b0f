import { Button } from '@mantine/core';
import { Link, useParams } from 'react-router';
import type { Run } from '../../api/client';
import { useCancelRun, useRun, useRunLog } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { count, took } from '../../ui/format';
import { Answer, Page, Problem } from '../../ui/Page';
import { Glyph, Status } from '../../ui/Status';
import { RunProgress } from './RunProgress';

const toneOf: Record<string, string> = { error: 'failed', warning: 'warned', info: 'none' };

export function RunPage() {
  const id = Number(useParams().id);
  const run = useRun(id);
  const log = useRunLog(run.data);
  const cancel = useCancelRun();
  const r = run.data;
  return (
    <Page
      title={`Run ${id}`}
      facts={
        r && `${r.kind} of ${r.job ?? r.store}${r.cause === 'schedule' ? ', by schedule' : `, asked for by ${r.cause}`}`
      }
      doing={
        <>
          {r?.copyId && (
            <Button component={Link} to={`/copies/${r.copyId}`} size="xs" variant="default">
              The copy
            </Button>
          )}
          {r && r.state !== 'ended' && (
            <Button size="xs" variant="default" onClick={() => cancel.mutate(id)}>
              Cancel
            </Button>
          )}
        </>
      }
    >
      <Problem error={cancel.error} />
      <Answer of={run}>
        {(at) => (
          <div className="columns">
            <Ending run={at} />
            <section className="sheet" aria-label="Log">
              <h2>
                Log <span className="facts">{log.data && count(log.data.lines.length, 'line')}</span>
              </h2>
              <div className="log" tabIndex={0}>
                {log.data?.lines.length === 0 && <span className="soft">Nothing yet.</span>}
                {log.data?.lines.map((line, i) => (
                  <div key={i}>
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

function Ending({ run }: { run: Run }) {
  const f = run.figures;
  return (
    <section className="sheet" aria-label="Outcome">
      <h2>
        {run.state === 'ended' ? <Status state={run.outcome ?? 'ended'} /> : <Status state={run.state} />}
        {run.failure && <span className="facts">{run.failure}</span>}
      </h2>
      <div style={{ padding: '11px 14px 0' }}>
        {run.state === 'ended' ? run.sentence : <RunProgress run={run} />}
        {run.remedy && <div className="soft">{run.remedy}</div>}
      </div>
      <dl className="facts-grid">
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
        {run.kind === 'backup' && (
          <>
            <dt>taken</dt>
            <dd>
              {count(f.items, 'item')}, <Size bytes={f.selectedBytes} />
            </dd>
            <dt>read</dt>
            <dd>
              <Size bytes={f.readBytes} /> <span className="soft">had changed</span>
            </dd>
            <dt>new</dt>
            <dd>
              <Size bytes={f.newBytes} /> <span className="soft">the store did not have</span>
            </dd>
            <dt>stored</dt>
            <dd>
              <Size bytes={f.storedBytes} /> <span className="soft">compressed</span>
            </dd>
            <dt>skipped</dt>
            <dd>{f.skipped === 0 ? 'nothing' : count(f.skipped, 'item')}</dd>
          </>
        )}
      </dl>
    </section>
  );
}
