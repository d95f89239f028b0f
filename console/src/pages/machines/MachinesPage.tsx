import { Button, TextInput } from '@mantine/core';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { useMachines } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Answer, Page } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Rows } from '../../ui/Rows';
import { Glyph, Status } from '../../ui/Status';
import { Agent, type Machine } from './Agent';
import { coverageOf, coverages } from './coverage';
import { EnrolMachine } from './EnrolMachine';
import { ImportMachines } from './ImportMachines';
import { Nights } from './Nights';

const free = (m: Machine) => m.stands?.rooms?.find((r) => r.mount === '/')?.free;

/** Every machine, how it is protected, and how its agent stands. */
export function MachinesPage() {
  const machines = useMachines();
  const [filters, set] = useFilters();
  const [enrolling, setEnrolling] = useState(false);
  const [importing, setImporting] = useState(false);
  const navigate = useNavigate();
  const only = filters.get('coverage');
  const find = filters.get('find') ?? '';
  const fits = (m: Machine) =>
    (!only || m.coverage.class === only) &&
    [m.name, m.site ?? '', m.owner ?? '', ...m.tags].some((t) => t.includes(find.trim().toLowerCase()));
  return (
    <Page
      title="Machines"
      facts={machines.data && count(machines.data.machines.length, 'machine')}
      doing={
        <>
          <TextInput
            size="xs"
            aria-label="Find a machine"
            placeholder="Name, site, owner or tag"
            value={find}
            onChange={(e) => set({ find: e.currentTarget.value })}
          />
          <Button size="xs" variant="default" onClick={() => setImporting(true)}>
            Import
          </Button>
          <Button size="xs" onClick={() => setEnrolling(true)}>
            Enrol a machine
          </Button>
        </>
      }
    >
      {enrolling && <EnrolMachine machine="" close={() => setEnrolling(false)} />}
      {importing && <ImportMachines close={() => setImporting(false)} />}
      <section className="sheet" aria-label="All machines">
        <Answer of={machines}>
          {(all) => (
            <>
              <div
                role="group"
                aria-label="Coverage"
                style={{ display: 'flex', flexWrap: 'wrap', gap: 8, padding: '10px 14px' }}
              >
                {coverages
                  .map((c) => ({ ...c, many: all.machines.filter((m) => m.coverage.class === c.of).length }))
                  .filter((c) => c.many > 0 || c.of === only)
                  .map((c) => (
                    <Button
                      key={c.of}
                      size="compact-xs"
                      variant={only === c.of ? 'filled' : 'default'}
                      leftSection={only !== c.of && <Glyph state={c.look} />}
                      aria-pressed={only === c.of}
                      onClick={() => set({ coverage: only === c.of ? null : c.of })}
                    >
                      {c.words} {c.many}
                    </Button>
                  ))}
              </div>
              <Rows
                label="Machines"
                rows={all.machines.filter(fits)}
                rowKey={(m) => m.name}
                open={(m) => void navigate(`/machines/${m.name}`)}
                empty={all.machines.length === 0 ? 'No machine is known.' : 'No machine fits.'}
                columns={[
                  { title: 'machine', cell: (m) => <Link to={`/machines/${m.name}`}>{m.name}</Link> },
                  { title: 'site', cell: (m) => m.site },
                  {
                    title: 'coverage',
                    cut: true,
                    cell: (m) => (
                      <span title={m.coverage.why}>
                        <Status state={coverageOf(m.coverage.class).look}>{coverageOf(m.coverage.class).words}</Status>{' '}
                        {m.coverage.class !== 'covered' && <span className="soft">{m.coverage.why}</span>}
                      </span>
                    ),
                  },
                  { title: 'jobs', num: true, cell: (m) => m.jobs },
                  { title: 'last nights', cell: (m) => m.jobs > 0 && <Nights nights={m.nights} of={m.name} /> },
                  { title: 'agent', cell: (m) => <Agent machine={m} /> },
                  { title: 'last heard', cell: (m) => m.heardAt && <When at={m.heardAt} /> },
                  {
                    title: 'free at /',
                    num: true,
                    cell: (m) => free(m) !== undefined && <Size bytes={free(m) ?? 0} />,
                  },
                  { title: 'version', cell: (m) => m.version },
                ]}
              />
            </>
          )}
        </Answer>
      </section>
    </Page>
  );
}
