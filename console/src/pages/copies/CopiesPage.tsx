import { Button, Select, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { Link, useNavigate } from 'react-router';
import { useCopies, useJobs } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { Page, Problem } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Rows } from '../../ui/Rows';
import { Status } from '../../ui/Status';
import { Found } from './Found';

export function CopiesPage() {
  const [params, set] = useFilters();
  const job = params.get('job') ?? undefined;
  const jobs = useJobs();
  const copies = useCopies({ job });
  const navigate = useNavigate();
  const words = params.get('find') ?? '';
  const [wanted] = useDebouncedValue(words.trim(), 350);
  const rows = copies.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <Page
      title="Copies"
      facts={
        copies.data && `${rows.length}${copies.hasNextPage ? ' and more' : ''}${job ? ` of ${job}` : ''}, newest first`
      }
      doing={
        <>
          <TextInput
            data-search
            size="xs"
            w={240}
            placeholder="Find a file: a name, *.csv, a path"
            aria-label="Find a file in all copies"
            value={words}
            onChange={(e) => set({ find: e.currentTarget.value })}
          />
          <Select
            size="xs"
            w={220}
            clearable
            searchable
            placeholder="All jobs"
            aria-label="Job"
            data={(jobs.data ?? []).map((j) => j.name)}
            value={job ?? null}
            onChange={(value) => set({ job: value })}
          />
          {job && (
            <Button component={Link} to={`/jobs/${job}/prune`} size="xs" variant="default">
              Prune plan
            </Button>
          )}
        </>
      }
    >
      <Problem error={copies.error} />
      {wanted !== '' && <Found words={wanted} job={job} />}
      {copies.data && wanted === '' && (
        <div className="sheet">
          <Rows
            label="Copies"
            rows={rows}
            rowKey={(c) => c.id}
            open={(c) => void navigate(`/copies/${encodeURIComponent(c.id)}`)}
            nearEnd={() => copies.hasNextPage && !copies.isFetchingNextPage && void copies.fetchNextPage()}
            empty={
              <>
                No copies yet. Run a job on the page <Link to="/jobs">Jobs</Link>.
              </>
            }
            columns={[
              { title: 'copy', cell: (c) => <span className="mono">{c.id}</span> },
              { title: 'job', cell: (c) => c.job },
              { title: 'store', cell: (c) => c.store },
              { title: 'taken', cell: (c) => <When at={c.taken} /> },
              {
                title: 'state',
                cell: (c) => (
                  <>
                    <Status state={c.state} />
                    {c.checkedAt && (
                      <span className="soft">
                        , <When at={c.checkedAt} />
                      </span>
                    )}
                  </>
                ),
              },
              { title: 'items', num: true, cell: (c) => c.items.toLocaleString('en') },
              { title: 'size', num: true, cell: (c) => <Size bytes={c.bytes} /> },
              { title: 'new', num: true, cell: (c) => <Size bytes={c.newBytes} /> },
              {
                title: '',
                cell: (c) =>
                  c.binnedAt ? (
                    <span className="soft">
                      in the bin, <When at={c.binnedAt} />
                    </span>
                  ) : c.hold && !c.hold.over ? (
                    <Status state="held">held</Status>
                  ) : c.doubt ? (
                    <Status state="suspect" />
                  ) : null,
              },
            ]}
          />
        </div>
      )}
    </Page>
  );
}
