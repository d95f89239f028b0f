import { Button, SegmentedControl, Select, TextInput, Tooltip } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate } from 'react-router';
import { api, take } from '../../api/client';
import { usePresent, When } from '../../ui/Facts';
import { count, exact, short, took } from '../../ui/format';
import { Answer, Page } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Rows } from '../../ui/Rows';
import { Status } from '../../ui/Status';
import { Axis, stateOf } from './Axis';
import { CalendarAddresses } from './CalendarAddresses';

const hour = 3_600_000;
const spans = [
  { value: '12', label: '12 h' },
  { value: '24', label: '24 h' },
  { value: '48', label: '2 days' },
  { value: '168', label: '7 days' },
];

/** What ran and what will run, on one time axis; the stretch is in the address, so that a view can be sent to a colleague. */
export function TimetablePage() {
  const { now, zone } = usePresent();
  const navigate = useNavigate();
  const [params, set] = useFilters();
  const hours = Number(params.get('hours') ?? 24);
  const by = params.get('by') === 'store' ? 'store' : 'machine';
  // A stretch that follows the present begins a quarter of its length before it and moves by the quarter of an hour.
  const chosen = params.get('from');
  const from = chosen ?? new Date(Math.floor((now - (hours / 4) * hour) / 900_000) * 900_000).toISOString();
  const axis = useQuery({
    queryKey: ['timetable', 'axis', from, hours],
    placeholderData: (before) => before,
    refetchInterval: 60_000,
    queryFn: () => take(api.GET('/api/v1/timetable/axis', { params: { query: { from, hours } } })),
  });
  const move = (to: number) => set({ from: new Date(Math.round(to / 60_000) * 60_000).toISOString() });
  const machine = params.get('machine');
  const machines = [...new Set(axis.data?.bars.map((b) => b.machine) ?? [])].sort();
  const fits = (b: { machine: string }) => machine === null || b.machine === machine;
  const coming = axis.data?.bars.filter((b) => !b.past && fits(b)) ?? [];
  return (
    <Page
      title="Timetable"
      facts={
        axis.data &&
        `${count(coming.filter((b) => stateOf(b) === null).length, 'run')} to come in this stretch of ${count(hours, 'hour')}`
      }
      doing={
        <>
          <Button size="xs" variant="default" component={Link} to="/runs/waiting">
            Waiting
          </Button>
          <Button size="xs" variant="default" component={Link} to="/timetable/forecast">
            Forecast
          </Button>
          <TextInput
            size="xs"
            type="date"
            aria-label="From this date"
            value={chosen ? new Date(chosen).toLocaleDateString('sv', { timeZone: zone }) : ''}
            onChange={(e) =>
              e.currentTarget.value &&
              move(Date.parse(`${e.currentTarget.value}T00:00Z`) - offset(zone, e.currentTarget.value))
            }
          />
          <Button size="xs" variant="default" disabled={chosen === null} onClick={() => set({ from: null })}>
            Now
          </Button>
          <SegmentedControl
            size="xs"
            aria-label="How long a stretch"
            value={String(hours)}
            onChange={(value) => set({ hours: value })}
            data={spans}
          />
          {(machines.length > 1 || machine !== null) && (
            <Select
              size="xs"
              w={130}
              clearable
              searchable={machines.length > 8}
              placeholder="Every machine"
              aria-label="Machine"
              data={machines}
              value={machine}
              onChange={(value) => set({ machine: value })}
            />
          )}
          <SegmentedControl
            size="xs"
            aria-label="Rows by"
            value={by}
            onChange={(value) => set({ by: value })}
            data={[
              { value: 'machine', label: 'by machine' },
              { value: 'store', label: 'by store' },
            ]}
          />
        </>
      }
    >
      <Answer of={axis}>
        {(a) => (
          <div className="columns">
            <Axis axis={{ ...a, bars: a.bars.filter(fits) }} by={by} begin={Date.parse(from)} move={move} />
            <section className="sheet" aria-label="Runs to come">
              <Rows
                label="Runs to come"
                rows={coming}
                rowKey={(b) => `${b.due} ${b.job} ${b.machine} ${stateOf(b)}`}
                open={(b) => void navigate(`/jobs/${b.job}?on=${b.machine}`)}
                empty="Nothing is due in this stretch. Jobs without 'when' run only when somebody asks."
                columns={[
                  {
                    title: 'due, local',
                    cell: (b) => (
                      <Tooltip label={exact(b.due, zone)}>
                        <span style={{ whiteSpace: 'nowrap' }}>{short(b.due, zone)}</span>
                      </Tooltip>
                    ),
                  },
                  {
                    title: 'UTC',
                    cell: (b) => (
                      <span className="soft" style={{ whiteSpace: 'nowrap' }}>
                        {b.due.slice(0, 16).replace('T', ' ')}
                      </span>
                    ),
                  },
                  { title: '', cell: (b) => <When at={b.due} /> },
                  {
                    title: 'job',
                    cell: (b) => (
                      <Link to={`/jobs/${b.job}?on=${b.machine}`} style={{ whiteSpace: 'nowrap' }}>
                        {b.job}
                      </Link>
                    ),
                  },
                  { title: 'machine', cell: (b) => b.machine },
                  {
                    title: 'into',
                    cell: (b) => (
                      <span style={{ whiteSpace: 'nowrap' }} className={b.watched ? 'soft' : undefined}>
                        {b.watched ? 'watched' : b.stores.join(', ')}
                      </span>
                    ),
                  },
                  {
                    title: 'expected to last',
                    cell: (b) =>
                      stateOf(b) ? (
                        <Status state={b.outcome ?? 'not-needed'}>{stateOf(b)}</Status>
                      ) : (
                        took((Date.parse(b.end) - Date.parse(b.start)) / 1000)
                      ),
                  },
                  { title: 'why', cut: true, cell: (b) => <span className="soft">{b.why}</span> },
                ]}
              />
            </section>
            <CalendarAddresses />
          </div>
        )}
      </Answer>
    </Page>
  );
}

/** By how much the zone's clock is ahead of UTC around a date. */
function offset(zone: string, date: string): number {
  const noon = new Date(`${date}T12:00Z`);
  const local = new Date(`${noon.toLocaleString('sv', { timeZone: zone }).replace(' ', 'T')}Z`);
  return local.getTime() - noon.getTime();
}
