import { Breadcrumbs, Button, Checkbox } from '@mantine/core';
import { IconFile, IconFolder, IconLink } from '@tabler/icons-react';
import { useState } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import { useCopy, useFolder, useHold, useRelease, useTakeBack, useWhy } from '../../api/hooks';
import type { Copy, Schemas } from '../../api/client';
import { Size, When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { AskUntil } from '../../ui/Ask';
import { Answer, Notice, Page, Problem } from '../../ui/Page';
import { Rows } from '../../ui/Rows';
import { Status } from '../../ui/Status';
import { RestoreDialog } from './RestoreDialog';
import { Versions } from './Versions';

type Entry = Schemas['EntryAnswer'];
const iconOf: Record<string, typeof IconFile> = { folder: IconFolder, symlink: IconLink };

export function CopyPage() {
  const { id = '' } = useParams();
  const copy = useCopy(id);
  const [params, setParams] = useSearchParams();
  const folder = useFolder(id, params.get('path') ?? undefined);
  const path = folder.data?.path ?? params.get('path') ?? '/';
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [restoring, setRestoring] = useState(false);
  const [holding, setHolding] = useState(false);
  const [asking, setAsking] = useState(false);
  const [versionsOf, setVersionsOf] = useState<string>();
  const hold = useHold();
  const release = useRelease();
  const takeBack = useTakeBack();
  const c = copy.data;
  const held = c?.hold && !c.hold.over;
  const below = (name: string) => (path === '/' ? `/${name}` : `${path}/${name}`);
  const toggle = (name: string) => {
    const next = new Set(chosen);
    if (!next.delete(below(name))) next.add(below(name));
    setChosen(next);
  };
  return (
    <Page
      title="Copy"
      facts={<span className="mono">{id}</span>}
      doing={
        <>
          {chosen.size > 0 && <span className="soft">{count(chosen.size, 'entry', 'entries')} chosen</span>}
          {chosen.size > 0 && (
            <Button size="xs" variant="default" onClick={() => setChosen(new Set())}>
              Choose none
            </Button>
          )}
          {c && (
            <Button size="xs" variant="default" onClick={() => setAsking(!asking)}>
              Why is it here?
            </Button>
          )}
          {c && c.state !== 'missing' && (
            <Button
              component={Link}
              size="xs"
              variant="default"
              to={`/jobs/${c.job}/compare?${new URLSearchParams({ on: c.machine, store: c.store, to: c.id }).toString()}`}
            >
              Compare
            </Button>
          )}
          {c && !c.binnedAt && !held && (
            <Button size="xs" variant="default" onClick={() => setHolding(true)}>
              Hold
            </Button>
          )}
          {held && (
            <Button size="xs" variant="default" loading={release.isPending} onClick={() => release.mutate(id)}>
              Release
            </Button>
          )}
          {c?.binnedAt && (
            <Button size="xs" variant="default" loading={takeBack.isPending} onClick={() => takeBack.mutate(id)}>
              Bring back from the bin
            </Button>
          )}
          {c && c.state !== 'missing' && (
            <Button size="xs" variant="default" component="a" href={archiveOf(id, [...chosen])} download>
              {chosen.size > 0 ? 'Download the chosen' : 'Download'}
            </Button>
          )}
          <Button size="xs" disabled={!copy.data} onClick={() => setRestoring(true)}>
            {chosen.size > 0 ? 'Restore the chosen' : 'Restore all of it'}
          </Button>
        </>
      }
    >
      <Problem error={release.error ?? takeBack.error} />
      {holding && (
        <AskUntil
          title="Hold this copy"
          does="Hold"
          days={90}
          pending={hold.isPending}
          error={hold.error}
          close={() => setHolding(false)}
          act={(reason, until) => hold.mutate({ id, reason, until }, { onSuccess: () => setHolding(false) })}
        >
          A held copy does not expire, and changes no other copy’s fate. On the day, somebody looks at it again.
        </AskUntil>
      )}
      <Answer of={copy}>{(of) => <About copy={of} />}</Answer>
      {asking && <Why id={id} />}
      <section className="sheet" style={{ marginTop: 14 }} aria-label="What it holds">
        <h2 style={{ alignItems: 'center' }}>
          <Breadcrumbs separatorMargin={5}>
            {['', ...path.split('/').filter(Boolean)].map((name, i, all) => {
              const to = all.slice(0, i + 1).join('/') || '/';
              return (
                <Link key={to} to={`?path=${encodeURIComponent(to)}`}>
                  {name || '/'}
                </Link>
              );
            })}
          </Breadcrumbs>
        </h2>
        <Answer of={folder}>
          {(f) => (
            <Rows<Entry>
              label={`Entries of ${f.path}`}
              rows={f.entries}
              rowKey={(e) => e.name}
              open={(e) => (e.kind === 'folder' ? setParams({ path: below(e.name) }) : toggle(e.name))}
              empty="This folder is empty."
              columns={[
                {
                  title: '',
                  cell: (e) => (
                    <Checkbox
                      size="xs"
                      aria-label={`Choose ${e.name}`}
                      checked={chosen.has(below(e.name))}
                      onClick={(event) => event.stopPropagation()}
                      onChange={() => toggle(e.name)}
                    />
                  ),
                },
                { title: 'name', cell: (e) => <EntryName entry={e} /> },
                {
                  title: 'size',
                  num: true,
                  cell: (e) =>
                    e.kind === 'file' || e.kind === 'folder' ? (
                      <Size bytes={e.size} />
                    ) : (
                      <span className="soft">{e.kind}</span>
                    ),
                },
                { title: 'items', num: true, cell: (e) => (e.kind === 'folder' ? e.items.toLocaleString('en') : '') },
                { title: 'modified', cell: (e) => <When at={e.modified} /> },
                { title: 'mode', cell: (e) => <span className="mono">{e.mode}</span> },
                { title: 'owner', cell: (e) => `${e.owner}:${e.group}` },
                {
                  title: '',
                  num: true,
                  cell: (e) =>
                    e.kind === 'folder' ? null : (
                      <Button
                        size="compact-xs"
                        variant="subtle"
                        color="gray"
                        aria-label={`Versions of ${e.name}`}
                        onClick={(event) => {
                          event.stopPropagation();
                          setVersionsOf(below(e.name));
                        }}
                      >
                        versions
                      </Button>
                    ),
                },
              ]}
            />
          )}
        </Answer>
      </section>
      {versionsOf && c && (
        <Versions job={c.job} stores={[c.store]} path={versionsOf} close={() => setVersionsOf(undefined)} />
      )}
      {restoring && copy.data && (
        <RestoreDialog copy={copy.data} paths={[...chosen]} close={() => setRestoring(false)} />
      )}
    </Page>
  );
}

/** Where the copy, or some of its paths, is sent as a pax tar archive. */
const archiveOf = (id: string, paths: string[]) =>
  `/api/v1/copies/${encodeURIComponent(id)}/archive?${new URLSearchParams(paths.map((p) => ['path', p])).toString()}`;

/** The verdict of the policy on this copy, with its reasons. */
function Why({ id }: { id: string }) {
  const why = useWhy(id, true);
  return (
    <section className="sheet" style={{ marginTop: 14 }} aria-label="Why this copy is here">
      <Answer of={why}>
        {(w) => (
          <>
            <h2>
              <Status state={w.verdict} />
              {w.keep && (
                <span className="facts">
                  by {w.keep}; {w.setBy}
                </span>
              )}
            </h2>
            <ul style={{ margin: 0, padding: '10px 14px 10px 32px' }}>
              {w.reasons.map((r) => (
                <li key={r}>{r}</li>
              ))}
              {w.leavesAt && (
                <li>
                  a rule lets it go <When at={w.leavesAt} />
                </li>
              )}
              {w.binUntil && (
                <li>
                  its bytes may be reclaimed <When at={w.binUntil} />
                </li>
              )}
            </ul>
          </>
        )}
      </Answer>
    </section>
  );
}

function About({ copy }: { copy: Copy }) {
  return (
    <>
      <section className="sheet" aria-label="About this copy">
        <div className="sum">
          <Link to={`/jobs/${copy.job}?on=${copy.machine}`} style={{ fontWeight: 600 }}>
            {copy.job}
          </Link>
          <span>
            taken <When at={copy.taken} />
          </span>
          <span>
            {count(copy.items, 'item')}, <Size bytes={copy.bytes} />
          </span>
          <span className="soft">in store {copy.store}</span>
          <Status state={copy.state} />
          {copy.kind !== null && <span className="soft">{copy.kind}</span>}
          {copy.checkedAt && (
            <span className="soft">
              checked <When at={copy.checkedAt} />
            </span>
          )}
          {copy.runId !== null && (
            <Link to={`/runs/${copy.runId}`} className="soft">
              run {copy.runId}
            </Link>
          )}
          {copy.hold && !copy.hold.over && (
            <Status state="held">
              held by {copy.hold.by} until <When at={copy.hold.until} />: {copy.hold.reason}
            </Status>
          )}
          {copy.binnedAt && (
            <span className="tone-warned">
              in the bin since <When at={copy.binnedAt} />, restorable until it is reclaimed
            </span>
          )}
        </div>
      </section>
      {copy.doubt && (
        <Notice tone="warned" title="Suspect, until somebody confirms it">
          {copy.doubt}. It counts, and the copy before it does not expire meanwhile.{' '}
          {copy.runId !== null && <Link to={`/runs/${copy.runId}`}>Look at its run</Link>}
        </Notice>
      )}
      {copy.state === 'missing' && (
        <Notice tone="failed" title="Missing">
          Its record is gone from store {copy.store}. It counts for nothing; if the store was put back from elsewhere,
          check it, and what comes back is sound again.
        </Notice>
      )}
      {copy.damageCount > 0 && (
        <Notice
          tone="failed"
          title={`${count(copy.damageCount, 'entry', 'entries')} of this copy cannot be given back whole`}
        >
          {copy.damage.slice(0, 20).map((p) => (
            <div key={p} className="mono">
              {p}
            </div>
          ))}
          {copy.damageCount > 20 && <div>and {copy.damageCount - 20} more</div>}
        </Notice>
      )}
    </>
  );
}

function EntryName({ entry }: { entry: Entry }) {
  const Icon = iconOf[entry.kind] ?? IconFile;
  return (
    <span style={{ display: 'inline-flex', gap: 7, alignItems: 'baseline' }}>
      <Icon
        size={15}
        stroke={1.6}
        aria-hidden
        style={{ alignSelf: 'center' }}
        className={entry.kind === 'folder' ? 'tone-live' : 'soft'}
      />
      {entry.name}
      {entry.linkTarget && <span className="soft">→ {entry.linkTarget}</span>}
    </span>
  );
}
