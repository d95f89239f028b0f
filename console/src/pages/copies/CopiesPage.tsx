import { Button, Select, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { Link, useNavigate } from 'react-router';
import type { Copy } from '../../api/client';
import { useCopies, useJobs, useMachines, useStores } from '../../api/hooks';
import { Size, usePresent, When } from '../../ui/Facts';
import { midnight } from '../../ui/format';
import { Page, Problem } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Rows } from '../../ui/Rows';
import { Status } from '../../ui/Status';
import { ByMachine } from './ByMachine';
import { Found } from './Found';

const states = ['unchecked', 'sound', 'unsound', 'partial', 'missing', 'held', 'suspect', 'in-bin'];
const dayAfter = (date: string) => new Date(Date.parse(date) + 86_400_000).toISOString().slice(0, 10);

export function CopiesPage() {
  const { zone } = usePresent();
  const [params, set] = useFilters();
  const of = (key: string) => params.get(key) ?? undefined;
  const [job, store, machine, state, from, to] = ['job', 'store', 'machine', 'state', 'from', 'to'].map(of);
  const jobs = useJobs();
  const stores = useStores();
  const machines = useMachines();
  const copies = useCopies({
    job,
    store,
    machine,
    state,
    since: from && midnight(from, zone),
    until: to && midnight(dayAfter(to), zone),
  });
  const navigate = useNavigate();
  const words = params.get('find') ?? '';
  const [wanted] = useDebouncedValue(words.trim(), 350);
  const rows = copies.data?.pages.flatMap((p) => p.items) ?? [];
  const byMachine = of('by') === 'machine';
  const narrowed = [store, machine, state, from, to].some((f) => f !== undefined);
  const choice = (key: string, label: string, data: string[], width: number) => (
    <Select
      size="xs"
      w={width}
      clearable
      searchable={data.length > 8}
      placeholder={label}
      aria-label={label}
      data={data}
      value={of(key) ?? null}
      onChange={(value) => set({ [key]: value })}
    />
  );
  const date = (key: string, label: string) => (
    <TextInput
      size="xs"
      w={128}
      type="date"
      aria-label={label}
      title={label}
      value={of(key) ?? ''}
      onChange={(e) => set({ [key]: e.currentTarget.value })}
    />
  );
  return (
    <Page
      title="Copies"
      facts={
        !byMachine &&
        copies.data &&
        `${rows.length}${copies.hasNextPage ? ' and more' : ''}${job ? ` of ${job}` : ''}, newest first`
      }
      doing={
        <>
          <TextInput
            data-search
            size="xs"
            w={220}
            placeholder="Find a file: a name, *.csv, a path"
            aria-label="Find a file in all copies"
            value={words}
            onChange={(e) => set({ find: e.currentTarget.value })}
          />
          {choice('job', 'Job', [...new Set((jobs.data ?? []).map((j) => j.name))], 150)}
          {wanted === '' && (
            <>
              {choice(
                'store',
                'Store',
                (stores.data ?? []).map((s) => s.name),
                130,
              )}
              {choice(
                'machine',
                'Machine',
                (machines.data?.machines ?? []).map((m) => m.name),
                110,
              )}
              {!byMachine && (
                <>
                  {choice('state', 'State', states, 110)}
                  {date('from', 'Taken from')}
                  {date('to', 'Taken until')}
                </>
              )}
              <Button
                size="xs"
                variant={byMachine ? 'filled' : 'default'}
                aria-pressed={byMachine}
                onClick={() => set({ by: byMachine ? null : 'machine', state: null, from: null, to: null })}
              >
                By machine
              </Button>
            </>
          )}
          {job && (
            <>
              <Button
                component={Link}
                to={`/jobs/${job}/compare${machine ? `?on=${machine}` : ''}`}
                size="xs"
                variant="default"
              >
                Compare
              </Button>
              <Button
                component={Link}
                to={`/jobs/${job}/prune${machine ? `?on=${machine}` : ''}`}
                size="xs"
                variant="default"
              >
                Prune plan
              </Button>
            </>
          )}
        </>
      }
    >
      <Problem error={copies.error} />
      {wanted !== '' && <Found words={wanted} job={job} />}
      {byMachine && wanted === '' && <ByMachine job={job} store={store} machine={machine} />}
      {copies.data && wanted === '' && !byMachine && (
        <div className="sheet">
          <Rows
            label="Copies"
            rows={rows}
            rowKey={(c) => `${c.id} ${c.store}`}
            open={(c) => void navigate(`/copies/${encodeURIComponent(c.id)}`)}
            nearEnd={() => copies.hasNextPage && !copies.isFetchingNextPage && void copies.fetchNextPage()}
            empty={
              narrowed || job ? (
                'No copy fits; leave out one of the filters.'
              ) : (
                <>
                  No copies yet. Run a job on the page <Link to="/jobs">Jobs</Link>.
                </>
              )
            }
            columns={[
              {
                title: 'copy',
                cell: (c) => (
                  <span className="name">
                    <span className="mono">{c.id}</span> {c.kind !== null && <span className="soft">{c.kind}</span>}
                  </span>
                ),
              },
              { title: 'job', cell: (c) => <span className="name">{c.job}</span> },
              { title: 'machine', cell: (c) => <span className="name">{c.machine}</span> },
              { title: 'store', cell: (c) => <span className="name">{c.store}</span> },
              { title: 'taken', cell: (c) => <When at={c.taken} /> },
              { title: 'state', cell: (c) => <State copy={c} /> },
              { title: 'items', num: true, cell: (c) => c.items.toLocaleString('en') },
              { title: 'size', num: true, cell: (c) => <Size bytes={c.bytes} /> },
              { title: 'new', num: true, cell: (c) => <Size bytes={c.newBytes} /> },
            ]}
          />
        </div>
      )}
    </Page>
  );
}

/** What a copy is, and what is special about it; of an ordinary one, when it was checked. */
function State({ copy: c }: { copy: Copy }) {
  return (
    <span className="name">
      <Status state={c.state} />
      {c.binnedAt ? (
        <span className="soft">
          , in the bin <When at={c.binnedAt} />
        </span>
      ) : c.hold && !c.hold.over ? (
        <>
          , <Status state="held" />
        </>
      ) : c.doubt ? (
        <>
          , <Status state="suspect" />
        </>
      ) : (
        c.checkedAt && (
          <span className="soft">
            , <When at={c.checkedAt} />
          </span>
        )
      )}
    </span>
  );
}
