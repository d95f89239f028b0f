import { Button } from '@mantine/core';
import { Link } from 'react-router';
import type { Alert, Duty } from '../../api/client';
import { useAcknowledge, useDuty } from '../../api/hooks';
import { When, usePresent } from '../../ui/Facts';
import { count, short } from '../../ui/format';
import { Answer, Page, Problem } from '../../ui/Page';
import { Glyph, Status } from '../../ui/Status';
import { NightBoard } from './NightBoard';

export function DutyPage() {
  const duty = useDuty();
  return (
    <Page title="Duty" facts={duty.data && <Headline duty={duty.data} />}>
      <Answer of={duty}>
        {(d) =>
          d.board.length === 0 ? (
            <FirstSteps />
          ) : (
            <div className="columns" style={{ gridTemplateColumns: 'minmax(360px, 1fr) auto' }}>
              <div className="columns">
                <Matters alerts={d.alerts} />
              </div>
              <div className="columns">
                <Sums duty={d} />
                <NightBoard board={d.board} />
              </div>
            </div>
          )
        }
      </Answer>
    </Page>
  );
}

function Headline({ duty }: { duty: Duty }) {
  const open = duty.alerts.filter((a) => a.state === 'open').length;
  const seen = duty.alerts.length - open;
  return (
    <>
      {open === 0 ? 'nothing needs you' : `${count(open, 'matter')} ${open === 1 ? 'needs' : 'need'} you`}
      {seen > 0 && `, ${seen} acknowledged`}
    </>
  );
}

function Matters({ alerts }: { alerts: Alert[] }) {
  const acknowledge = useAcknowledge();
  return (
    <section className="sheet" aria-label="Open alerts">
      <h2>Needs a person</h2>
      <Problem error={acknowledge.error} />
      {alerts.length === 0 && <div className="empty">No open alerts. Everything that should have run, ran.</div>}
      {alerts.map((a) => (
        <article key={a.id} className="alert-item">
          <Glyph state={a.class === 'unsound' ? 'failed' : a.class} label={a.class} />
          <div>
            <span className="what">{a.subject}</span>{' '}
            <span className="soft">
              {a.class}, since <When at={a.openedAt} />
              {a.count > 1 && `, ${a.count} times`}
            </span>
            <p>{a.message}</p>
            <p className="soft">{a.remedy}</p>
          </div>
          <div style={{ display: 'flex', flexDirection: 'column', gap: 6, alignItems: 'flex-end' }}>
            {a.runId !== null && (
              <Button component={Link} to={`/runs/${a.runId}`} size="compact-sm" variant="default">
                Look at the run
              </Button>
            )}
            {a.state === 'open' ? (
              <Button
                size="compact-sm"
                variant="subtle"
                color="gray"
                onClick={() => acknowledge.mutate(a.id)}
                loading={acknowledge.isPending && acknowledge.variables === a.id}
              >
                Acknowledge
              </Button>
            ) : (
              <span className="soft">seen by {a.acknowledgedBy}</span>
            )}
          </div>
        </article>
      ))}
    </section>
  );
}

function Sums({ duty }: { duty: Duty }) {
  const { zone } = usePresent();
  const parts = Object.entries(duty.outcomes).filter(([, n]) => n > 0);
  return (
    <section className="sheet" aria-label="Sums of the last night">
      <h2>
        Last night
        <span className="facts">
          {short(duty.from, zone)} to {short(duty.to, zone)}
        </span>
      </h2>
      <div className="sum">
        <span>
          <b>{duty.planned}</b>planned
        </span>
        <span className="soft">=</span>
        {parts.map(([outcome, n]) => (
          <Status key={outcome} state={outcome}>
            <b>{n}</b>
            {outcome}
          </Status>
        ))}
        {duty.stillRunning > 0 && (
          <Status state="running">
            <b>{duty.stillRunning}</b>still running
          </Status>
        )}
        {duty.unplanned > 0 && <span className="soft">and {duty.unplanned} unplanned</span>}
      </div>
    </section>
  );
}

function FirstSteps() {
  return (
    <section className="sheet" aria-label="First steps">
      <h2>From nothing to the first restored file</h2>
      <ol style={{ margin: 0, padding: '14px 14px 14px 34px', lineHeight: 1.8 }}>
        <li>
          Declare a store, a policy and a job: <Link to="/settings">write a charter</Link>; it begins with an example.
        </li>
        <li>
          Run the job on the page <Link to="/jobs">Jobs</Link> and watch it.
        </li>
        <li>
          Look into the copy on the page <Link to="/copies">Copies</Link>, choose a file and restore it.
        </li>
        <li>
          Check the store on the page <Link to="/stores">Stores</Link>: every byte is read back.
        </li>
      </ol>
    </section>
  );
}
