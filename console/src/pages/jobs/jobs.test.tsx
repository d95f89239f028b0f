import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { afterEach, expect, test } from 'vitest';
import type { Job, Run } from '../../api/client';
import { refused, serve, show } from '../../testService';
import { AlertsPage } from '../alerts/AlertsPage';
import { JobsPage } from './JobsPage';

afterEach(cleanup);

const run = (more: Partial<Run>) =>
  ({
    id: 9,
    kind: 'backup',
    state: 'ended',
    outcome: 'ok',
    began: '2026-11-29T22:00:00Z',
    ended: '2026-11-29T22:10:00Z',
    figures: { selectedBytes: 4, expectedBytes: 10 } as Run['figures'],
    ...more,
  }) as Run;

const job = (name: string, more: Partial<Job> = {}): Job => ({
  name,
  machine: 'heron',
  watched: false,
  note: null,
  takes: ['/srv'],
  leavesOut: [],
  into: ['cellar'],
  when: 'daily at 23:00',
  after: null,
  zone: 'Europe/London',
  policy: 'few',
  keep: null,
  freshWithin: null,
  nextDue: [],
  lastRun: run({}),
  newestGoodCopy: null,
  copies: 4,
  stale: false,
  pause: null,
  expiryHold: null,
  nights: [],
  onSeveral: null,
  partials: null,
  fullAskedBy: null,
  values: null,
  heardBy: [],
  logs: [],
  syslog: [],
  logRules: null,
  streams: [],
  steps: null,
  ...more,
});

const names = () =>
  within(screen.getByRole('table', { name: 'Jobs' }))
    .getAllByRole('row')
    .slice(1)
    .map((r) => within(r).getAllByRole('link')[0]?.textContent);

const list = (jobs: Job[], at = '/jobs') => {
  const asked = serve({
    'GET jobs': jobs,
    'POST jobs/register/runs': refused(409, 'job register is at work already, as run 12'),
  });
  show(<JobsPage />, at);
  return asked;
};

test('a watched job is known by what was heard of it: no button, no copies of its own', async () => {
  list([
    job('adopted', { watched: true, into: [], lastRun: null, copies: 0 }),
    job('heard', { watched: true, into: [] }),
    job('listening', { watched: true, into: [], lastRun: run({ state: 'running', outcome: null, ended: null }) }),
    job('register', { lastRun: null }),
  ]);
  expect(await screen.findByText('not heard of yet')).toBeTruthy();
  expect(screen.getByText('never ran')).toBeTruthy();
  expect(screen.getByText('at work')).toBeTruthy();
  expect(screen.getAllByRole('button', { name: /^Run / }).map((b) => b.getAttribute('aria-label'))).toEqual([
    'Run register now',
  ]);
});

test.each([
  ['trouble', ['bad', 'old']],
  ['stale', ['old']],
  ['paused', ['held']],
  ['running', ['busy']],
])('the state %s shows what it says', async (state, wanted) => {
  list(
    [
      job('bad', { lastRun: run({ outcome: 'failed' }) }),
      job('old', { stale: true }),
      job('held', {
        pause: { by: 'mira', reason: 'the flood', since: '', until: '2026-12-24T00:00:00Z' } as Job['pause'],
      }),
      job('busy', { lastRun: run({ state: 'running', outcome: null, ended: null }) }),
      job('fine', { lastRun: run({ outcome: 'warned' }) }),
    ],
    `/jobs?state=${state}`,
  );
  await screen.findByRole('table', { name: 'Jobs' });
  expect(names()).toEqual(wanted);
});

test('words narrow by name, machine, store, policy, time and outcome together, and stand in the address', async () => {
  list([
    job('rings', { into: ['marsh-house'] }),
    job('register'),
    job('camera', { machine: 'avocet', lastRun: run({ outcome: 'failed' }) }),
  ]);
  await screen.findByRole('table', { name: 'Jobs' });
  const find = screen.getByLabelText('Find jobs');
  for (const [words, wanted] of [
    ['marsh', ['rings']],
    ['heron 23:00', ['rings', 'register']],
    ['FAILED avocet', ['camera']],
  ] as const) {
    fireEvent.change(find, { target: { value: words } });
    await waitFor(() => expect(names()).toEqual(wanted));
  }
  fireEvent.change(find, { target: { value: 'no such thing' } });
  expect(await screen.findByText(/No job fits these words/)).toBeTruthy();
});

test('a run that is refused says why, and one that is at work cannot be begun twice', async () => {
  list([job('register'), job('busy', { lastRun: run({ state: 'queued', outcome: null, ended: null }) })]);
  const button = await screen.findByRole('button', { name: 'Run register now' });
  expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Run busy now' }).disabled).toBe(true);
  fireEvent.click(button);
  expect(await screen.findByText(/at work already, as run 12/)).toBeTruthy();
});

test('alerts are asked for by state and class; a channel that is tried says what came of it', async () => {
  const channel = {
    name: 'night',
    kind: 'mail',
    to: 'night@saltmere.example',
    lastSent: null,
    waiting: 2,
    problem: 'the mail server refused it: 550 no such user',
  };
  const asked = serve({
    'GET alerts': { items: [], next: null },
    'GET channels': [channel],
    'POST channels/night/test': { sent: false, problem: 'the mail server hung up' },
  });
  show(<AlertsPage />, '/alerts?class=stale');
  expect(await screen.findByText(/Nothing fits/)).toBeTruthy();
  const queries = () =>
    asked.filter((a) => a.path === 'alerts').map((a) => [a.query.get('state'), a.query.get('class')].join());
  expect(queries()).toEqual(['open,stale']);
  fireEvent.click(screen.getByText('Closed'));
  await waitFor(() => expect(queries()).toEqual(['open,stale', 'closed,stale']));
  expect(await screen.findByText(/550 no such user/)).toBeTruthy();
  expect(screen.getByText(/2 waiting/)).toBeTruthy();
  fireEvent.click(screen.getByRole('button', { name: 'Try it' }));
  expect(await screen.findByText('the mail server hung up')).toBeTruthy();
});
