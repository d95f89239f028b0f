import { Breadcrumbs, Button, SegmentedControl, Select } from '@mantine/core';
import { IconFile, IconFolder } from '@tabler/icons-react';
import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useEffect, useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, take, type Copy, type Schemas } from '../../api/client';
import { useCopies, useJob } from '../../api/hooks';
import { Size, usePresent, When } from '../../ui/Facts';
import { count, short } from '../../ui/format';
import { Answer, Empty, Notice, Page } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Rows } from '../../ui/Rows';
import { Status } from '../../ui/Status';

type Difference = Schemas['EntryDifferenceAnswer'];
type Sums = Schemas['DifferenceAnswer'];

const TextCompare = lazy(() => import('./TextCompare').then((m) => ({ default: m.TextCompare })));

const stateOf: Record<string, string> = { added: 'ok', removed: 'failed', changed: 'warned', attributes: 'unchecked' };
const wordOf: Record<string, string> = { attributes: 'owner, mode or time' };

/** What differs between two copies of a job, folder by folder: as it was the day before. */
export function ComparePage() {
  const { name = '' } = useParams();
  const { zone } = usePresent();
  const [params, set] = useFilters();
  const on = params.get('on') ?? undefined;
  const job = useJob({ name, on });
  const store = params.get('store') ?? job.data?.into[0];
  const copies = useCopies({ job: name, store, machine: on });
  const all = copies.data?.pages.flatMap((p) => p.items) ?? [];
  const to = params.get('to') ?? all[0]?.id;
  // The one before it may stand on a later page of the list, which is then asked for.
  const at = all.findIndex((c) => c.id === to);
  const from = params.get('from') ?? (at < 0 ? undefined : all[at + 1]?.id);
  const { hasNextPage, isFetching, fetchNextPage } = copies;
  const looksOn = from === undefined && hasNextPage;
  useEffect(() => {
    if (looksOn && !isFetching) void fetchNextPage();
  }, [looksOn, isFetching, fetchNextPage]);
  const option = (c: Copy) => ({ value: c.id, label: `${short(c.taken, zone)} · ${c.id.slice(-5)}` });
  return (
    <Page
      title="Compare"
      facts={
        <>
          two copies of{' '}
          <Link to={`/jobs/${name}${on ? `?on=${on}` : ''}`}>
            {name}
            {on && ` on ${on}`}
          </Link>
        </>
      }
      doing={
        <>
          {(job.data?.into.length ?? 0) > 1 && (
            <SegmentedControl
              size="xs"
              aria-label="Store"
              data={job.data?.into ?? []}
              value={store ?? ''}
              onChange={(value) => set({ store: value, from: null, to: null })}
            />
          )}
          <Select
            size="xs"
            w={180}
            searchable
            aria-label="The earlier copy"
            placeholder="The earlier copy"
            data={all.map(option)}
            value={from ?? null}
            onChange={(value) => set({ from: value })}
          />
          <Select
            size="xs"
            w={180}
            searchable
            aria-label="The later copy"
            placeholder="The later copy"
            data={all.map(option)}
            value={to ?? null}
            onChange={(value) => set({ to: value })}
          />
        </>
      }
    >
      <Answer of={copies}>
        {() =>
          from && to && store ? (
            <Differences
              from={from}
              to={to}
              store={store}
              asked={params.get('path') ?? undefined}
              go={(p) => set({ path: p })}
            />
          ) : looksOn ? null : (
            <section className="sheet">
              <Empty>
                {name} has fewer than two copies{store && <> in store {store}</>}, so there is nothing to compare yet.
              </Empty>
            </section>
          )
        }
      </Answer>
    </Page>
  );
}

function Differences(props: {
  from: string;
  to: string;
  store: string;
  asked: string | undefined;
  go: (path: string) => void;
}) {
  const { from, to, store, asked, go } = props;
  const [bySize, setBySize] = useState(false);
  const [file, setFile] = useState<string>();
  const found = useQuery({
    queryKey: ['differences', from, to, store, asked],
    staleTime: Infinity,
    retry: false,
    queryFn: () =>
      take(
        api.GET('/api/v1/copies/{id}/differences', {
          params: { path: { id: to }, query: { with: from, store, path: asked } },
        }),
      ),
  });
  const path = found.data?.path ?? '/';
  const below = (entry: string) => (path === '/' ? `/${entry}` : `${path}/${entry}`);
  const isFolder = (d: Difference) => (d.kindAfter ?? d.kindBefore) === 'folder';
  const open = (d: Difference) => {
    if (isFolder(d)) go(below(d.name));
    else if (d.kindAfter === 'file' || d.kindBefore === 'file') setFile(below(d.name));
  };
  return (
    <Answer of={found}>
      {(f) => (
        <div className="columns">
          <section className="sheet" aria-label="Sums">
            <div className="sum">
              <span>
                from <Link to={`/copies/${encodeURIComponent(f.before.id)}`}>{f.before.id}</Link>,{' '}
                <When at={f.before.taken} />
              </span>
              <span>
                to <Link to={`/copies/${encodeURIComponent(f.after.id)}`}>{f.after.id}</Link>,{' '}
                <When at={f.after.taken} />
              </span>
              {(f.complete || f.entries.length > 0) && <Parts sums={f.sums} />}
            </div>
          </section>
          {!f.complete && (
            <Notice tone="warned">
              There is more than could be compared in ten seconds. Open a folder to compare what is in it.
            </Notice>
          )}
          {f.sums.unreadable > 0 && (
            <Notice tone="failed">
              {count(f.sums.unreadable, 'folder')} could not be read, because a listing is damaged. Check the store.
            </Notice>
          )}
          <section className="sheet" aria-label="What differs">
            <h2 style={{ alignItems: 'center' }}>
              <Breadcrumbs separatorMargin={5} style={{ flexWrap: 'wrap' }}>
                {['', ...path.split('/').filter(Boolean)].map((part, i, all) => {
                  const at = all.slice(0, i + 1).join('/') || '/';
                  return (
                    <button key={at} type="button" className="fold" onClick={() => go(at)}>
                      {part || '/'}
                    </button>
                  );
                })}
              </Breadcrumbs>
              <SegmentedControl
                size="xs"
                ml="auto"
                aria-label="Order"
                data={['By name', 'By size']}
                value={bySize ? 'By size' : 'By name'}
                onChange={(value) => setBySize(value === 'By size')}
              />
            </h2>
            <Rows<Difference>
              label={`Differences in ${path}`}
              rows={bySize ? [...f.entries].sort((a, b) => weight(b) - weight(a)) : f.entries}
              rowKey={(d) => d.name}
              open={open}
              empty={f.complete ? 'Nothing differs here.' : 'Nothing that differs was found so far.'}
              columns={[
                {
                  title: 'name',
                  cell: (d) => (
                    <span style={{ display: 'inline-flex', gap: 7, alignItems: 'center' }}>
                      {isFolder(d) ? (
                        <IconFolder size={15} stroke={1.6} className="tone-live" aria-hidden />
                      ) : (
                        <IconFile size={15} stroke={1.6} className="soft" aria-hidden />
                      )}
                      {d.name}
                    </span>
                  ),
                },
                {
                  title: 'change',
                  cell: (d) => <Status state={stateOf[d.change] ?? ''}>{wordOf[d.change] ?? d.change}</Status>,
                },
                { title: 'before', num: true, cell: (d) => <Side kind={d.kindBefore} size={d.sizeBefore} /> },
                { title: 'after', num: true, cell: (d) => <Side kind={d.kindAfter} size={d.sizeAfter} /> },
                {
                  title: 'in it',
                  cell: (d) => (isFolder(d) && d.change === 'changed' ? <Parts sums={d.sums} brief /> : null),
                },
                {
                  title: 'modified',
                  cell: (d) => <When at={d.modifiedAfter ?? d.modifiedBefore} />,
                },
                {
                  title: '',
                  num: true,
                  cell: (d) =>
                    d.kindAfter === 'file' && d.kindBefore === 'file' && d.change === 'changed' ? (
                      <Button
                        size="compact-xs"
                        variant="default"
                        aria-label={`Text of ${d.name}`}
                        onClick={(e) => {
                          e.stopPropagation();
                          setFile(below(d.name));
                        }}
                      >
                        Side by side
                      </Button>
                    ) : null,
                },
              ]}
            />
          </section>
          {file && (
            <Suspense fallback={null}>
              <TextCompare before={f.before} after={f.after} path={file} close={() => setFile(undefined)} />
            </Suspense>
          )}
        </div>
      )}
    </Answer>
  );
}

/** How many bytes an entry's difference is about. */
const weight = (d: Difference) => d.sums.addedBytes + d.sums.removedBytes + d.sums.changedBytes;

function Side({ kind, size }: { kind: string | null; size: number | null }) {
  if (kind === null) return <span className="soft">–</span>;
  return kind === 'file' || kind === 'folder' ? <Size bytes={size} /> : <span className="soft">{kind}</span>;
}

function Parts({ sums, brief }: { sums: Sums; brief?: boolean }) {
  const parts: [string, number, number | null, string][] = [
    ['added', sums.added, sums.addedBytes, 'ok'],
    ['removed', sums.removed, sums.removedBytes, 'failed'],
    ['changed', sums.changed, sums.changedBytes, 'warned'],
    ['only in owner, mode or time', sums.attributes, null, 'unchecked'],
  ];
  const some = parts.filter(([, n]) => n > 0);
  if (some.length === 0) return <span className="soft">nothing differs</span>;
  return (
    <span style={{ display: 'inline-flex', flexWrap: 'wrap', gap: '2px 12px' }}>
      {some.map(([word, n, bytes, state]) =>
        brief ? (
          <span key={word} className="soft">
            {n.toLocaleString('en')} {word}
          </span>
        ) : (
          <Status key={word} state={state}>
            <b>{n.toLocaleString('en')}</b>
            {word}
            {bytes !== null && (
              <span className="soft">
                {' '}
                (<Size bytes={bytes} />)
              </span>
            )}
          </Status>
        ),
      )}
    </span>
  );
}
