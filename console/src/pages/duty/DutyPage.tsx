import { Button } from '@mantine/core';
import { Link } from 'react-router';
import type { Duty } from '../../api/client';
import { useDuty } from '../../api/hooks';
import { usePresent } from '../../ui/Facts';
import { count, short } from '../../ui/format';
import { Answer, Page } from '../../ui/Page';
import { Status } from '../../ui/Status';
import { AlertItem } from '../alerts/AlertItem';
import { FirstSteps } from './FirstSteps';
import { GroupBoard } from './GroupBoard';
import { NightBoard } from './NightBoard';
import { Review } from './Review';

export function DutyPage() {
  const duty = useDuty();
  return (
    <Page
      title="Duty"
      facts={duty.data && <Headline duty={duty.data} />}
      doing={
        <Button component={Link} to="/reports" size="xs" variant="default">
          Reports
        </Button>
      }
    >
      <Answer of={duty}>
        {(d) =>
          d.promises.withCopies === 0 && d.alerts.length === 0 ? (
            <FirstSteps />
          ) : (
            <div className="columns duty">
              <section className="sheet alerts" aria-label="Open alerts">
                <h2>Needs attention</h2>
                {d.alerts.length === 0 && (
                  <div className="empty">No open alerts. Everything that should have run, ran.</div>
                )}
                {d.alerts.map((a) => (
                  <AlertItem key={a.id} alert={a} />
                ))}
              </section>
              <div className="columns">
                <Sums duty={d} />
                {d.groups.length > 0 ? <GroupBoard duty={d} /> : <NightBoard board={d.board} />}
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
  const known = duty.alerts.filter((a) => a.state === 'known').length;
  const seen = duty.alerts.length - open - known;
  return (
    <>
      {open === 0 ? 'nothing needs attention' : `${count(open, 'alert')} ${open === 1 ? 'needs' : 'need'} attention`}
      {seen > 0 && `, ${seen} acknowledged`}
      {known > 0 && `, ${known} known`}
    </>
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
      <Review duty={duty} />
    </section>
  );
}
