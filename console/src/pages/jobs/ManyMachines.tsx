import { Button } from '@mantine/core';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import type { Job } from '../../api/client';
import { useRerunFailed } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Page, Problem } from '../../ui/Page';
import { Rows } from '../../ui/Rows';
import { Glyph, Status } from '../../ui/Status';
import { RunProgress } from '../runs/RunProgress';

const went = (j: Job) => j.lastRun?.outcome ?? null;
const isWrong = (j: Job) => !['ok', 'warned', 'not-needed', 'cancelled', null].includes(went(j));
const isBusy = (j: Job) => j.lastRun !== null && j.lastRun.state !== 'ended';

/** A job that is on several machines: a board machine by night, which of them are late, what is at work, and what failed. */
export function ManyMachines({ name, jobs }: { name: string; jobs: Job[] }) {
  const rerun = useRerunFailed();
  const navigate = useNavigate();
  const [only, setOnly] = useState<'late' | 'wrong'>();
  const late = jobs.filter((j) => j.stale);
  const wrong = jobs.filter(isWrong);
  const busy = jobs.filter(isBusy);
  const shown = only === 'late' ? late : only === 'wrong' ? wrong : jobs;
  return (
    <Page
      title={name}
      facts={`on ${count(jobs.length, 'machine')}: ${late.length} late, ${wrong.length} whose last run went wrong`}
      doing={
        <>
          <Button component={Link} to={`/copies?job=${name}`} size="xs" variant="default">
            Copies
          </Button>
          <Button component={Link} to={`/settings/job/${name}`} size="xs" variant="default">
            Change
          </Button>
          {wrong.length > 0 && jobs[0]?.watched === false && (
            <>
              <Button
                size="xs"
                variant="default"
                loading={rerun.isPending}
                onClick={() => rerun.mutate({ name, then: true })}
              >
                Rerun as they were
              </Button>
              <Button size="xs" loading={rerun.isPending} onClick={() => rerun.mutate({ name, then: false })}>
                Rerun what failed
              </Button>
            </>
          )}
        </>
      }
    >
      <Problem error={rerun.error} />
      {rerun.data && (
        <p role="status">
          {count(rerun.data.runs.length, 'run')} queued. {rerun.data.refused.join('. ')}
        </p>
      )}
      {busy.length > 0 && (
        <section className="sheet" aria-label="At work">
          <h2>
            At work <span className="facts">{count(busy.length, 'run')}</span>
          </h2>
          {busy.slice(0, 8).map(
            (j) =>
              j.lastRun && (
                <div key={j.machine} style={{ padding: '8px 14px' }}>
                  <Link to={`/runs/${j.lastRun.id}`}>{j.machine}</Link>
                  <RunProgress run={j.lastRun} />
                </div>
              ),
          )}
          {busy.length > 8 && (
            <div className="empty">
              and {busy.length - 8} more; <Link to="/runs/waiting">what waits</Link>
            </div>
          )}
        </section>
      )}
      <section className="sheet" aria-label="Machines">
        <h2>
          Machines by night <span className="facts">noon to noon, the newest on the right</span>
        </h2>
        <div role="group" aria-label="Only" style={{ display: 'flex', gap: 8, padding: '10px 14px' }}>
          {(['late', 'wrong'] as const).map((w) => (
            <Button
              key={w}
              size="compact-xs"
              variant={only === w ? 'filled' : 'default'}
              aria-pressed={only === w}
              onClick={() => setOnly(only === w ? undefined : w)}
            >
              {w === 'late' ? `late ${late.length}` : `went wrong ${wrong.length}`}
            </Button>
          ))}
        </div>
        <Rows
          label="Machines of the job"
          rows={shown}
          rowKey={(j) => j.machine}
          open={(j) => void navigate(`/jobs/${name}?on=${j.machine}`)}
          empty={jobs.length === 0 ? 'It takes no machine.' : 'None.'}
          columns={[
            { title: 'machine', cell: (j) => <Link to={`/jobs/${name}?on=${j.machine}`}>{j.machine}</Link> },
            {
              title: 'last nights',
              cell: (j) => (
                <span style={{ whiteSpace: 'nowrap' }}>
                  {j.nights.map((n) => (
                    <Glyph
                      key={n.date}
                      state={n.outcome ?? (n.planned > 0 ? 'running' : null)}
                      label={`${n.date}: ${n.outcome ?? (n.planned > 0 ? 'running' : 'none planned')}`}
                    />
                  ))}
                </span>
              ),
            },
            {
              title: 'last run',
              cell: (j) => j.lastRun && <Status state={j.lastRun.outcome ?? j.lastRun.state} />,
            },
            {
              title: 'newest good copy',
              num: true,
              cell: (j) => (
                <>
                  {j.newestGoodCopy ? <When at={j.newestGoodCopy.taken} /> : <span className="soft">none yet</span>}
                  {j.stale && <span className="tone-failed"> stale</span>}
                </>
              ),
            },
            { title: 'copies', num: true, cell: (j) => j.copies },
            { title: '', cell: (j) => j.pause && <span className="soft">paused by {j.pause.by}</span> },
          ]}
        />
      </section>
    </Page>
  );
}
