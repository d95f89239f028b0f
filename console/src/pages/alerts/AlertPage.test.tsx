import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { afterEach, expect, test } from 'vitest';
import type { Alert, Schemas } from '../../api/client';
import { refused, serve, show } from '../../testService';
import { AlertPage } from './AlertPage';

afterEach(cleanup);

const alert = (more: Partial<Alert> = {}): Alert => ({
  id: 7,
  subject: { kind: 'store', job: null, machine: null, store: 'cellar', name: null, words: 'store cellar' },
  class: 'failed',
  state: 'open',
  message: 'Store cellar does not answer',
  remedy: 'Bring it back.',
  count: 3,
  openedAt: '2026-11-23T09:00:00Z',
  lastAt: '2026-11-23T10:00:00Z',
  acknowledgedBy: null,
  acknowledgedAt: null,
  closedAt: null,
  runId: 12,
  affected: ['register', 'tide'],
  closedBy: null,
  closedReason: null,
  severity: 'broken-promise',
  knownUntil: null,
  knownBy: null,
  knownReason: null,
  ...more,
});

const job = (name: string, more: Partial<Schemas['AlertJobAnswer']> = {}): Schemas['AlertJobAnswer'] => ({
  job: name,
  machine: 'heron',
  watched: false,
  newestGoodCopy: '2026-11-20T09:00:00Z',
  freshWithin: '30 hours',
  stale: true,
  lastRun: null,
  ...more,
});

const whole = (more: Partial<Schemas['AlertWholeAnswer']> = {}): Schemas['AlertWholeAnswer'] => ({
  alert: alert(),
  deeds: [
    {
      at: '2026-11-23T09:00:00Z',
      kind: 'opened',
      by: null,
      words: 'Store cellar does not answer',
      runId: 12,
      runState: null,
      outcome: null,
    },
    {
      at: '2026-11-23T09:00:01Z',
      kind: 'told',
      by: null,
      words: 'opened, through night',
      runId: null,
      runState: null,
      outcome: null,
    },
  ],
  jobs: [job('register'), job('tide', { stale: false })],
  lines: [{ at: '2026-11-23T09:00:00Z', severity: 'error', text: 'no such device' }],
  before: [],
  timesBefore: 0,
  copies: [],
  tickets: [],
  ...more,
});

const open = () => show(<AlertPage />, '/alerts/7', '/alerts/:id');

test('a ticket is linked where the desk has a page for it, and never followed with what this page is', async () => {
  serve({
    'GET alerts/7': whole({
      tickets: [
        {
          channel: 'office',
          reference: 'S-12',
          page: 'https://desk.saltmere.example/tickets/S-12',
          openedAt: '2026-11-23T02:00:00Z',
          closedAt: null,
        },
        {
          channel: 'office',
          reference: null,
          page: null,
          openedAt: '2026-11-22T02:00:00Z',
          closedAt: '2026-11-22T03:00:00Z',
        },
      ],
    }),
    'GET jobs': [],
  });
  open();
  const tickets = within(await screen.findByRole('region', { name: 'Tickets' }));
  const link = tickets.getByRole('link', { name: 'S-12' });
  expect([link.getAttribute('href'), link.getAttribute('rel')]).toEqual([
    'https://desk.saltmere.example/tickets/S-12',
    'noopener noreferrer',
  ]);
  expect(tickets.getAllByRole('link')).toHaveLength(1);
  expect(tickets.getByText(/Without a reference/).textContent).toContain('closed');
});

test('cause, stake, lines, promises and what was done stand on one page', async () => {
  serve({ 'GET alerts/7': whole(), 'GET jobs': [] });
  open();
  expect(await screen.findByText('Store cellar does not answer', { selector: 'p' })).toBeTruthy();
  expect(screen.getByText(/a promise is broken/)).toBeTruthy();
  expect(screen.getByText(/no such device/)).toBeTruthy();
  expect(screen.getAllByText(/of 30 hours promised/).map((e) => e.className)).toEqual(['tone-failed', 'soft']);
  // The newest deed stands first.
  const done = screen.getByRole('region', { name: 'What was done' });
  expect([...done.querySelectorAll('b')].map((b) => b.textContent)).toEqual(['Told', 'Opened']);
});

const rerunJob = (more: Partial<Schemas['AlertRerunJob']> = {}): Schemas['AlertRerunJob'] => ({
  job: 'register',
  machine: 'heron',
  refused: null,
  runId: 4,
  revision: 2,
  changes: [],
  windowOpens: null,
  window: null,
  nextDue: '2026-11-23T23:00:00Z',
  ...more,
});

test('all that a cause stopped is run again after one question, or one of it, and what could not be is said', async () => {
  const asked = serve({
    'GET alerts/7': whole(),
    'GET jobs': [],
    'GET alerts/7/reruns': { jobs: [rerunJob(), rerunJob({ job: 'tide', refused: 'job tide is watched' })] },
    'POST alerts/7/reruns': { runs: [], refused: ['job register is at work already (run 9)'] },
  });
  open();
  fireEvent.click(await screen.findByRole('button', { name: 'Run all 2 again…' }));
  let dialog = within(await screen.findByRole('dialog'));
  expect(await dialog.findByText(/Runs register again/)).toBeTruthy();
  expect(dialog.getByText('job tide is watched')).toBeTruthy();
  // Nothing changed and no quiet hours: there is nothing to choose.
  expect(dialog.queryAllByRole('radio')).toHaveLength(0);
  fireEvent.click(dialog.getByRole('button', { name: 'Run again' }));
  expect(await dialog.findByText(/register is at work already/)).toBeTruthy();
  fireEvent.click(dialog.getByRole('button', { name: 'Cancel' }));
  await waitFor(() => expect(screen.queryByRole('dialog')).toBeNull());
  fireEvent.click(screen.getByRole('button', { name: 'Run tide again' }));
  dialog = within(await screen.findByRole('dialog'));
  fireEvent.click(await dialog.findByRole('button', { name: 'Run again' }));
  await waitFor(() =>
    expect(asked.filter((a) => a.method === 'POST').map((a) => a.query.get('job'))).toEqual([null, 'tide']),
  );
  expect(
    new Set(asked.filter((a) => a.method === 'GET' && a.path.endsWith('reruns')).map((a) => a.query.get('job'))),
  ).toEqual(new Set([null, 'tide']));
});

test('what changed since the run that failed is shown, and it is run as it was and when its quiet hours end', async () => {
  const asked = serve({
    'GET alerts/7': whole(),
    'GET jobs': [],
    'GET alerts/7/reruns': {
      jobs: [
        rerunJob({
          changes: [{ field: 'takes', before: '/srv/old', after: '/srv/new' }],
          windowOpens: '2026-11-23T18:00:00Z',
          window: 'the quiet hours 08:00 to 18:00',
        }),
      ],
    },
    'POST alerts/7/reruns': { runs: [], refused: [] },
  });
  open();
  fireEvent.click(await screen.findByRole('button', { name: 'Run all 2 again…' }));
  const dialog = within(await screen.findByRole('dialog'));
  const row = (await dialog.findByText('/srv/old')).closest('tr');
  expect([...(row?.cells ?? [])].map((c) => c.textContent)).toEqual(['takes', '/srv/old', '/srv/new']);
  fireEvent.click(dialog.getByRole('radio', { name: 'Those of the run that failed' }));
  fireEvent.click(dialog.getByRole('radio', { name: /the quiet hours 08:00 to 18:00/ }));
  fireEvent.click(dialog.getByRole('button', { name: 'Run again' }));
  await waitFor(() => expect(screen.queryByRole('dialog')).toBeNull());
  const post = asked.find((a) => a.method === 'POST');
  expect([post?.query.get('settings'), post?.query.get('when')]).toEqual(['then', 'window']);
});

test('one can wait for the next run instead', async () => {
  const asked = serve({
    'GET alerts/7': whole(),
    'GET jobs': [],
    'GET alerts/7/reruns': { jobs: [rerunJob()] },
    'POST alerts/7/wait': alert(),
  });
  open();
  fireEvent.click(await screen.findByRole('button', { name: 'Run all 2 again…' }));
  fireEvent.click(await screen.findByRole('button', { name: /Wait for the next run/ }));
  await waitFor(() => expect(asked.some((a) => a.path.endsWith('alerts/7/wait'))).toBe(true));
});

test('what is known needs a reason and a day, and a refusal stays in the dialogue', async () => {
  const asked = serve({
    'GET alerts/7': whole(),
    'GET jobs': [],
    'POST alerts/7/known': refused(400, '2030-01-01 is not within the coming 366 days'),
  });
  open();
  fireEvent.click(await screen.findByRole('button', { name: 'Known until…' }));
  const dialog = within(await screen.findByRole('dialog'));
  const does = dialog.getByRole<HTMLButtonElement>('button', { name: 'Nobody needs to be told' });
  expect(does.disabled).toBe(true);
  fireEvent.change(dialog.getByLabelText(/Why/), { target: { value: 'the disk is being replaced' } });
  fireEvent.change(dialog.getByLabelText(/Until/), { target: { value: '2030-01-01' } });
  fireEvent.click(does);
  expect(await dialog.findByText(/not within the coming 366 days/)).toBeTruthy();
  expect(asked.find((a) => a.method === 'POST')?.body).toMatchObject({ reason: 'the disk is being replaced' });
});

test('a note is kept, and a closed alert tells how it ended and how often it was there before', async () => {
  const asked = serve({
    'GET jobs': [],
    'POST alerts/7/notes': new Response(null, { status: 204 }),
    'GET alerts/7': whole({
      alert: alert({
        state: 'closed',
        closedAt: '2026-11-23T11:00:00Z',
        closedBy: 'mira',
        closedReason: 'it was pulled',
      }),
      jobs: [],
      lines: [],
      before: [
        {
          id: 3,
          openedAt: '2026-10-01T09:00:00Z',
          closedAt: '2026-10-01T11:00:00Z',
          openSeconds: 7200,
          count: 1,
          closedBy: null,
          closedReason: null,
          notes: ['tove: the cable was loose'],
          tried: [{ runId: 3, by: 'tove', words: null, state: 'ended', outcome: 'ok' }],
        },
      ],
      timesBefore: 14,
    }),
  });
  open();
  expect(await screen.findByText(/Closed by mira: it was pulled/)).toBeTruthy();
  expect(screen.getByText('14 times within a year')).toBeTruthy();
  expect(screen.getByText('tove: the cable was loose')).toBeTruthy();
  // What was tried then, and what came of it.
  expect(screen.getByText(/tove ran it again/).textContent).toContain('ok');
  expect(screen.queryByRole('button', { name: /Acknowledge|Known until|Close/ })).toBeNull();
  fireEvent.change(screen.getByLabelText('Note'), { target: { value: 'it was the cable again' } });
  fireEvent.click(screen.getByRole('button', { name: 'Add the note' }));
  await waitFor(() =>
    expect(asked.find((a) => a.method === 'POST')?.body).toEqual({ words: 'it was the cable again' }),
  );
});
