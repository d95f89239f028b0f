import { Button } from '@mantine/core';
import { useState } from 'react';
import { Link } from 'react-router';
import type { Schemas } from '../../api/client';
import { useMachines } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Answer, Page } from '../../ui/Page';
import { Rows } from '../../ui/Rows';
import { Status } from '../../ui/Status';
import { EnrolMachine } from './EnrolMachine';
import { ShutOut } from './ShutOut';

type Machine = Schemas['MachineAnswer'];

/** From how many seconds on a clock that is off is worth a word. */
const clockCounts = 120;

/** The machines, and how their agents stand. */
export function MachinesPage() {
  const machines = useMachines();
  const [enrolling, setEnrolling] = useState<string>();
  const [shutting, setShutting] = useState<string>();
  return (
    <Page
      title="Machines"
      facts={machines.data && count(machines.data.machines.length, 'machine')}
      doing={
        <Button size="xs" onClick={() => setEnrolling('')}>
          Enrol a machine
        </Button>
      }
    >
      {enrolling !== undefined && <EnrolMachine machine={enrolling} close={() => setEnrolling(undefined)} />}
      {shutting !== undefined && <ShutOut machine={shutting} close={() => setShutting(undefined)} />}
      <section className="sheet" aria-label="All machines">
        <Answer of={machines}>
          {(all) => (
            <Rows
              label="Machines"
              rows={all.machines}
              rowKey={(m) => m.name}
              empty="No machine is known."
              columns={[
                {
                  title: 'machine',
                  cell: (m) => (m.declared ? <Link to={`/settings/machine/${m.name}`}>{m.name}</Link> : m.name),
                },
                { title: 'site', cell: (m) => m.site },
                { title: 'owner', cell: (m) => m.owner },
                { title: 'jobs', num: true, cell: (m) => m.jobs },
                { title: 'agent', cell: (m) => <Agent machine={m} /> },
                { title: 'last heard', cell: (m) => m.heardAt && <When at={m.heardAt} /> },
                { title: 'version', cell: (m) => m.version },
                {
                  title: '',
                  num: true,
                  cell: (m) =>
                    m.own || m.readOver ? null : m.state === 'joined' || m.state === 'lapsed' ? (
                      <Button
                        size="compact-xs"
                        variant="default"
                        aria-label={`Shut out ${m.name}`}
                        onClick={() => setShutting(m.name)}
                      >
                        Shut out
                      </Button>
                    ) : (
                      <Button
                        size="compact-xs"
                        variant="default"
                        aria-label={`Enrol ${m.name}`}
                        onClick={() => setEnrolling(m.name)}
                      >
                        Enrol
                      </Button>
                    ),
                },
              ]}
            />
          )}
        </Answer>
      </section>
    </Page>
  );
}

/** What of its machine keeps jobs waiting, in a few words. */
function standing({ stands }: Machine) {
  if (!stands) return null;
  return [stands.onMains === false && 'on battery', stands.metered === true && 'metered line']
    .filter(Boolean)
    .join(', ');
}

function Agent({ machine: m }: { machine: Machine }) {
  if (m.own) return <span className="soft">the service itself</span>;
  const ahead = m.clockAhead ?? 0;
  switch (m.state) {
    case 'none':
      return <span className="soft">{m.readOver ? 'none, read over SFTP' : 'none'}</span>;
    case 'enrolled':
      return (
        <>
          <Status state="held">code made</Status>{' '}
          <span className="soft">
            by {m.enrolledBy}, ends <When at={m.codeUntil} />
          </span>
        </>
      );
    case 'lapsed':
      return <Status state="stale">right lapsed, not heard of for too long</Status>;
    case 'shut-out':
      return (
        <>
          <Status state="refused">shut out</Status>{' '}
          <span className="soft">
            by {m.shutOutBy}: {m.shutOutWhy}
          </span>
        </>
      );
    case 'joined':
      if (m.away) return <Status state="stale">joined, away</Status>;
      return Math.abs(ahead) > clockCounts ? (
        <Status state="warned">
          joined, its clock is {Math.round(Math.abs(ahead) / 60)} min {ahead > 0 ? 'ahead' : 'behind'}
        </Status>
      ) : (
        <>
          <Status state="ok">joined</Status> <span className="soft">{standing(m)}</span>
        </>
      );
    default:
      return m.state satisfies never;
  }
}
