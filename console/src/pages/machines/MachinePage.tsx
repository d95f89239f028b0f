import { Button } from '@mantine/core';
import { Fragment, useState } from 'react';
import { Link, useParams } from 'react-router';
import type { Job } from '../../api/client';
import { useCameBack, useCopyCounts, useJobsOf, useMachine, useRuns } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { Answer, Notice, Page, Problem } from '../../ui/Page';
import { Rows } from '../../ui/Rows';
import { Status } from '../../ui/Status';
import { JobValuesOf } from '../jobs/JobValues';
import { RunList } from '../runs/RunList';
import { Agent, type Machine } from './Agent';
import { coverageOf } from './coverage';
import { EnrolMachine } from './EnrolMachine';
import { Nights } from './Nights';
import { Retire } from './Retire';
import { ShutOut } from './ShutOut';

/** All that is known of one machine: how it is protected, its jobs, its runs, its copies, and what its agent says of it. */
export function MachinePage() {
  const { name = '' } = useParams();
  const machine = useMachine(name);
  const jobs = useJobsOf({ machine: name });
  const runs = useRuns({ machine: name, limit: 50 });
  const [asking, setAsking] = useState<'enrol' | 'shut-out' | 'retire'>();
  const close = () => setAsking(undefined);
  const m = machine.data;
  return (
    <Page
      title={name}
      facts={m && [m.site, m.owner && `of ${m.owner}`, ...m.tags].filter(Boolean).join(', ')}
      doing={
        m && (
          <>
            {m.declared && (
              <Button component={Link} to={`/settings/machine/${name}`} size="xs" variant="default">
                Change
              </Button>
            )}
            {!m.own && !m.retired && (
              <Button size="xs" variant="default" onClick={() => setAsking('retire')}>
                Retire
              </Button>
            )}
            {!m.own && !m.readOver && (m.state === 'joined' || m.state === 'lapsed') && (
              <Button size="xs" variant="default" onClick={() => setAsking('shut-out')}>
                Shut out
              </Button>
            )}
            {!m.own && !m.readOver && !m.retired && (
              <Button size="xs" variant="default" onClick={() => setAsking('enrol')}>
                Enrol
              </Button>
            )}
          </>
        )
      }
    >
      {asking === 'enrol' && <EnrolMachine machine={name} close={close} />}
      {asking === 'shut-out' && <ShutOut machine={name} close={close} />}
      {asking === 'retire' && m && <Retire machine={name} declared={m.declared} owner={m.owner} close={close} />}
      <Answer of={machine}>
        {(found) => (
          <div className="columns">
            {found.retired && (
              <Notice tone={found.retired.over ? 'failed' : 'warned'} title="Retired">
                Its copies are kept until {found.retired.copiesUntil}; {found.retired.copiesOwner} decides about them by{' '}
                {found.retired.decideBy}.
              </Notice>
            )}
            {found.cameAs && <CameBack machine={name} as={found.cameAs} />}
            <div className="columns beside">
              <Standing of={found} />
              <Copies machine={name} />
            </div>
            <section className="sheet" aria-label="Jobs">
              <h2>Jobs</h2>
              <Answer of={jobs}>{(all) => <Jobs jobs={all} />}</Answer>
            </section>
            <section className="sheet" aria-label="Runs">
              <h2>Runs</h2>
              <Answer of={runs}>{(page) => <RunList runs={page.items} empty="Nothing has run there yet." />}</Answer>
            </section>
          </div>
        )}
      </Answer>
    </Page>
  );
}

/** Asks what a machine is that came with this one's key under another name. */
function CameBack({ machine, as }: { machine: string; as: string }) {
  const settle = useCameBack();
  return (
    <Notice tone="warned" title="Came back under another name?">
      A machine with the key of {machine} wanted to join as {as}. If it is this machine, its key has the new name from
      now on, and it joins again; its copies stay under the old name. A disk that was cloned needs a key of its own.
      <div style={{ display: 'flex', gap: 8, marginTop: 8 }}>
        <Button
          size="compact-xs"
          loading={settle.isPending}
          onClick={() => settle.mutate({ name: machine, renamed: true })}
        >
          It is {machine}
        </Button>
        <Button
          size="compact-xs"
          variant="default"
          loading={settle.isPending}
          onClick={() => settle.mutate({ name: machine, renamed: false })}
        >
          It is another
        </Button>
      </div>
      <Problem error={settle.error} />
    </Notice>
  );
}

/** The file systems that hold data: what the kernel keeps for itself is none. */
const rooms = (m: Machine) => (m.stands?.rooms ?? []).filter((r) => !/^\/(dev|proc|run|sys)(\/|$)/.test(r.mount));

function Standing({ of: m }: { of: Machine }) {
  const coverage = coverageOf(m.coverage.class);
  const facts: [string, React.ReactNode][] = [
    [
      'Coverage',
      <>
        <Status state={coverage.look}>{coverage.words}</Status> <span className="soft">{m.coverage.why}</span>
      </>,
    ],
    ['Since', m.coverage.since && <When at={m.coverage.since} />],
    ['Excepted from', m.exceptedFrom.length > 0 && m.exceptedFrom.join(', ')],
    ['Agent', <Agent key="agent" machine={m} />],
    ['Read over', m.readOver],
    ['Last heard', m.heardAt && <When at={m.heardAt} />],
    ['From', m.address],
    ['Version', m.version && `${m.version}, ${m.system ?? ''}`],
    ['Clock', m.clockAhead !== null && `${Math.abs(m.clockAhead)} s ${m.clockAhead < 0 ? 'behind' : 'ahead'}`],
    ['Services', m.services.length > 0 && m.services.map((s) => <Service key={s.job} of={s} />)],
    [
      'Free',
      rooms(m).length > 0 &&
        rooms(m).map((r) => (
          <div key={r.mount}>
            <Size bytes={r.free} /> <span className="mono soft">{r.mount}</span>
          </div>
        )),
    ],
  ];
  return (
    <section className="sheet" aria-label="How it stands">
      <h2>How it stands</h2>
      <dl className="facts-grid">
        {facts
          .filter(([, value]) => value)
          .map(([title, value]) => (
            <Fragment key={title}>
              <dt>{title}</dt>
              <dd>{value}</dd>
            </Fragment>
          ))}
      </dl>
    </section>
  );
}

function Service({ of: s }: { of: Machine['services'][number] }) {
  return (
    <div>
      <Status state={s.up === null ? 'unchecked' : s.up ? 'ok' : 'failed'}>
        {s.up === null ? 'cannot be told' : s.up ? 'up' : 'down'}
      </Status>{' '}
      <span className="soft">
        of {s.job}, since <When at={s.since} />
      </span>
    </div>
  );
}

/** How many copies of the machine lie where. */
function Copies({ machine }: { machine: string }) {
  const counts = useCopyCounts(machine);
  return (
    <section className="sheet" aria-label="Copies">
      <h2>
        Copies <span className="facts">by job and store</span>
      </h2>
      <Answer of={counts}>
        {(all) => (
          <Rows
            label="Copies by job and store"
            rows={all}
            rowKey={(c) => `${c.job} ${c.store}`}
            empty="No copy of it is kept."
            columns={[
              {
                title: 'job',
                cell: (c) => <Link to={`/copies?job=${c.job}&machine=${machine}&store=${c.store}`}>{c.job}</Link>,
              },
              { title: 'store', cell: (c) => c.store },
              { title: 'copies', num: true, cell: (c) => c.count },
              { title: 'newest', num: true, cell: (c) => <When at={c.newest} /> },
              { title: 'oldest', num: true, cell: (c) => <When at={c.oldest} /> },
            ]}
          />
        )}
      </Answer>
    </section>
  );
}

function Jobs({ jobs }: { jobs: Job[] }) {
  const [open, setOpen] = useState<string>();
  if (jobs.length === 0) return <div className="empty">No job takes it.</div>;
  return (
    <>
      <Rows
        label="Jobs of the machine"
        rows={jobs}
        rowKey={(j) => j.name}
        empty=""
        columns={[
          {
            title: 'job',
            cell: (j) => <Link to={`/jobs/${j.name}${j.onSeveral ? `?on=${j.machine}` : ''}`}>{j.name}</Link>,
          },
          { title: 'when', cut: true, cell: (j) => j.when ?? (j.after ? `after ${j.after}` : 'by hand') },
          { title: 'last nights', cell: (j) => <Nights nights={j.nights.map((n) => n.outcome)} of={j.name} /> },
          {
            title: 'newest good copy',
            num: true,
            cell: (j) =>
              j.newestGoodCopy ? <When at={j.newestGoodCopy.taken} /> : <span className="soft">none yet</span>,
          },
          {
            title: '',
            num: true,
            cell: (j) => (
              <Button
                size="compact-xs"
                variant="default"
                aria-expanded={open === j.name}
                onClick={() => setOpen(open === j.name ? undefined : j.name)}
              >
                Values
              </Button>
            ),
          },
        ]}
      />
      {open && <JobValuesOf of={{ name: open, on: jobs[0]?.machine }} />}
    </>
  );
}
