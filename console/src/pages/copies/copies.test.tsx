import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { afterEach, expect, test } from 'vitest';
import type { Copy, Schemas } from '../../api/client';
import { refused, serve, show, type Answers } from '../../testService';
import { ComparePage } from './ComparePage';
import { Found, placesOf } from './Found';
import { RestoreDialog } from './RestoreDialog';

afterEach(cleanup);

const copy = (id: string, more: Partial<Copy> = {}): Copy => ({
  id,
  origin: id,
  job: 'register',
  machine: 'heron',
  store: 'cellar',
  taken: '2026-11-23T09:00:00Z',
  ended: '2026-11-23T09:01:00Z',
  state: 'sound',
  checkedAt: null,
  binnedAt: null,
  items: 3,
  bytes: 42,
  skipped: 0,
  newBytes: 42,
  storedBytes: 40,
  damage: [],
  damageCount: 0,
  runId: 7,
  doubt: null,
  hold: null,
  kind: null,
  ...more,
});

const sums = (more: Partial<Schemas['DifferenceAnswer']> = {}): Schemas['DifferenceAnswer'] => ({
  added: 0,
  addedBytes: 0,
  removed: 0,
  removedBytes: 0,
  changed: 0,
  changedBytes: 0,
  attributes: 0,
  unreadable: 0,
  ...more,
});

const entry = (name: string, more: Partial<Schemas['EntryDifferenceAnswer']>): Schemas['EntryDifferenceAnswer'] => ({
  name,
  change: 'changed',
  kindBefore: 'file',
  kindAfter: 'file',
  sizeBefore: 10,
  sizeAfter: 20,
  modifiedBefore: null,
  modifiedAfter: null,
  sums: sums({ changed: 1, changedBytes: 20 }),
  ...more,
});

const compared = (more: Partial<Schemas['CopyDifferencesAnswer']>): Schemas['CopyDifferencesAnswer'] => ({
  before: copy('c1-aaaaa'),
  after: copy('c2-bbbbb'),
  path: '/srv',
  complete: true,
  sums: sums(),
  entries: [],
  ...more,
});

const two: Answers = {
  'GET jobs/register': { name: 'register', into: ['cellar'] },
  'GET copies': { items: [copy('c2-bbbbb'), copy('c1-aaaaa')], next: null },
};

const compare = () => show(<ComparePage />, '/jobs/register/compare', '/jobs/:name/compare');

test('the newest copy is compared with the one before it, and folders are opened one by one', async () => {
  const asked = serve({
    ...two,
    'GET copies/c2-bbbbb/differences': ({ query }: { query: URLSearchParams }) =>
      compared({
        path: query.get('path') ?? '/srv',
        sums: sums({ added: 1, addedBytes: 5 }),
        entries: query.get('path')
          ? [entry('inside', { change: 'added', kindBefore: null, sizeBefore: null })]
          : [entry('rings', { kindBefore: 'folder', kindAfter: 'folder' })],
      }),
  });
  compare();
  fireEvent.click(await screen.findByText('rings'));
  expect(await screen.findByText('inside')).toBeTruthy();
  const differences = asked.filter((a) => a.path.endsWith('/differences'));
  expect(differences.map((a) => [a.query.get('with'), a.query.get('store'), a.query.get('path')])).toEqual([
    ['c1-aaaaa', 'cellar', null],
    ['c1-aaaaa', 'cellar', '/srv/rings'],
  ]);
});

test('nothing differs is said only of what was compared to its end', async () => {
  serve({ ...two, 'GET copies/c2-bbbbb/differences': compared({ complete: false }) });
  compare();
  expect(await screen.findByText(/more than could be compared/)).toBeTruthy();
  expect(screen.queryByText(/Nothing differs/i)).toBeNull();
  cleanup();
  serve({ ...two, 'GET copies/c2-bbbbb/differences': compared({}) });
  compare();
  expect((await screen.findAllByText(/nothing differs/i)).length).toBeGreaterThan(0);
  expect(screen.queryByText(/more than could be compared/)).toBeNull();
});

test('a listing that is damaged is said, and so is what cannot be compared at all', async () => {
  serve({ ...two, 'GET copies/c2-bbbbb/differences': compared({ sums: sums({ unreadable: 2 }) }) });
  compare();
  expect(await screen.findByText(/2 folders could not be read/)).toBeTruthy();
  cleanup();
  serve({ ...two, 'GET copies/c2-bbbbb/differences': refused(503, 'Store cellar does not answer') });
  compare();
  expect(await screen.findByText(/Store cellar does not answer/)).toBeTruthy();
});

test('a job with one copy has nothing to compare', async () => {
  serve({ ...two, 'GET copies': { items: [copy('c1-aaaaa')], next: null } });
  compare();
  expect(await screen.findByText(/fewer than two copies/)).toBeTruthy();
});

test('by size the largest difference comes first', async () => {
  serve({
    ...two,
    'GET copies/c2-bbbbb/differences': compared({
      entries: [
        entry('a-small', { sums: sums({ changed: 1, changedBytes: 5 }) }),
        entry('b-large', { sums: sums({ added: 1, addedBytes: 500 }) }),
      ],
    }),
  });
  compare();
  const names = () => screen.getAllByText(/^(a-small|b-large)$/).map((e) => e.textContent);
  await screen.findByText('a-small');
  expect(names()).toEqual(['a-small', 'b-large']);
  fireEvent.click(screen.getByText('By size'));
  expect(names()).toEqual(['b-large', 'a-small']);
});

const found = (path: string, more: Partial<Schemas['FoundPath']> = {}): Schemas['FoundPath'] => ({
  job: 'register',
  store: 'cellar',
  path,
  kind: 'file',
  size: 10,
  modified: '2026-11-20T00:00:00Z',
  versions: 2,
  copies: 3,
  newestCopy: 'c2-bbbbb',
  newestTaken: '2026-11-23T09:00:00Z',
  oldestTaken: '2026-11-01T09:00:00Z',
  ...more,
});

test('one path is one place, whatever stores hold it; two jobs with the same path are two', () => {
  const places = placesOf([
    found('/srv/a', { newestTaken: '2026-11-22T00:00:00Z', size: 1 }),
    found('/srv/a', { store: 'marsh-house', newestTaken: '2026-11-23T00:00:00Z', size: 2 }),
    found('/srv/a', { job: 'other' }),
    found('/srv/b'),
  ]);
  expect(places.map((p) => [p.job, p.path, p.inStores.map((f) => f.store).join(), p.newest.size])).toEqual([
    ['register', '/srv/a', 'cellar,marsh-house', 2],
    ['other', '/srv/a', 'cellar', 10],
    ['register', '/srv/b', 'cellar', 10],
  ]);
});

test('a search that was cut short says so, and one that found nothing says how to ask', async () => {
  serve({ 'GET copies/find': { found: [found('/srv/ledger')], copiesSearched: 4, complete: false } });
  show(<Found words="ledger" job={undefined} />);
  expect(await screen.findByText('1 path')).toBeTruthy();
  expect(screen.getByText(/there is more/)).toBeTruthy();
  cleanup();
  serve({ 'GET copies/find': { found: [], copiesSearched: 4, complete: true } });
  show(<Found words="heron" job={undefined} />);
  expect(await screen.findByText(/No copy holds “heron”/)).toBeTruthy();
});

const machines = {
  agentsAt: null,
  machines: [
    { name: 'dunlin', own: false, state: 'lapsed' },
    { name: 'heron', own: true, state: 'none' },
    { name: 'plover', own: false, state: 'joined' },
  ],
};

test('a restore keeps what is there unless told otherwise, and a refusal stays beside the button', async () => {
  let answer: unknown = refused(409, '/srv/cellar lies inside store cellar');
  const asked = serve({ 'POST copies/c1-aaaaa/restores': () => answer, 'GET machines': machines });
  show(<RestoreDialog copy={copy('c1-aaaaa')} paths={['/srv/a']} close={() => undefined} />);
  const dialog = within(await screen.findByRole('dialog'));
  fireEvent.change(await dialog.findByLabelText(/folder on heron/), { target: { value: '/srv/cellar' } });
  fireEvent.click(dialog.getByRole('button', { name: 'Restore' }));
  expect(await dialog.findByText(/lies inside store cellar/)).toBeTruthy();
  answer = { id: 12 };
  fireEvent.click(dialog.getByLabelText('Overwrite it'));
  fireEvent.change(dialog.getByLabelText(/folder on heron/), { target: { value: '/srv/back' } });
  fireEvent.click(dialog.getByRole('button', { name: 'Restore' }));
  expect(await dialog.findByText('What came back')).toBeTruthy();
  await waitFor(() =>
    expect(asked.filter((a) => a.method === 'POST').map((a) => a.body)).toEqual([
      { paths: ['/srv/a'], to: '/srv/cellar', existing: 'keep', machine: 'heron', reason: null },
      { paths: ['/srv/a'], to: '/srv/back', existing: 'overwrite', machine: 'heron', reason: null },
    ]),
  );
});

test('on another machine a restore asks for the reason, and one whose agent may not come is not offered', async () => {
  const asked = serve({ 'POST copies/c1-aaaaa/restores': () => ({ id: 12 }), 'GET machines': machines });
  show(<RestoreDialog copy={copy('c1-aaaaa')} paths={[]} close={() => undefined} />);
  const dialog = within(await screen.findByRole('dialog'));
  const choice = await dialog.findByRole('combobox');
  expect(within(choice).queryByText('dunlin')).toBeNull();
  expect(dialog.queryByLabelText(/Reason/)).toBeNull();
  fireEvent.change(choice, { target: { value: 'plover' } });
  fireEvent.change(dialog.getByLabelText(/Reason/), { target: { value: 'the register moves' } });
  fireEvent.change(dialog.getByLabelText(/folder on plover/), { target: { value: '/srv/back' } });
  fireEvent.click(dialog.getByRole('button', { name: 'Restore' }));
  await waitFor(() =>
    expect(asked.filter((a) => a.method === 'POST').map((a) => a.body)).toEqual([
      { paths: [], to: '/srv/back', existing: 'keep', machine: 'plover', reason: 'the register moves' },
    ]),
  );
});
