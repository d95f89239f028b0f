import { MantineProvider } from '@mantine/core';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { cleanup, fireEvent, render, screen } from '@testing-library/react';
import { MemoryRouter } from 'react-router';
import { afterEach, expect, test } from 'vitest';
import type { Alert } from '../../api/client';
import { AlertItem } from './AlertItem';

afterEach(cleanup);

const about = (kind: Alert['subject']['kind'], parts: Partial<Alert['subject']>, words: string): Alert['subject'] => ({
  kind,
  job: null,
  machine: null,
  store: null,
  name: null,
  ...parts,
  words,
});
const job = about('job', { job: 'register', machine: 'heron' }, 'job register on heron');

const alert = (change: Partial<Alert>): Alert => ({
  id: 7,
  subject: job,
  class: 'failed',
  state: 'open',
  message: 'it failed',
  remedy: 'mend it',
  count: 3,
  openedAt: '2026-11-23T09:00:00Z',
  lastAt: '2026-11-23T10:00:00Z',
  acknowledgedBy: null,
  acknowledgedAt: null,
  closedAt: null,
  runId: 12,
  affected: [],
  closedBy: null,
  closedReason: null,
  severity: 'failure',
  knownUntil: null,
  knownBy: null,
  knownReason: null,
  ...change,
});

const show = (a: Alert) =>
  render(
    <MantineProvider env="test">
      <QueryClientProvider client={new QueryClient()}>
        <MemoryRouter>
          <AlertItem alert={a} />
        </MemoryRouter>
      </QueryClientProvider>
    </MantineProvider>,
  );

test.each([
  [{ class: 'failed' }, 'button', 'Run now'],
  [{ class: 'stale' }, 'button', 'Run now'],
  [{ class: 'suspect' }, 'button', 'Confirm the run'],
  [{ class: 'unsound', subject: about('store', { store: 'cellar' }, 'store cellar') }, 'button', 'Check the store'],
  [{ class: 'nearly-full', subject: about('store', { store: 'cellar' }, 'store cellar') }, 'button', 'Reclaim'],
  [
    {
      class: 'braked-prune',
      subject: about(
        'prune',
        { job: 'register', machine: 'heron', store: 'cellar' },
        'prune of register on heron in store cellar',
      ),
    },
    'link',
    'The plan',
  ],
  [
    { class: 'clock', subject: about('clock', { machine: 'heron' }, 'the clock of heron') },
    'button',
    'Confirm the clock',
  ],
  [{ class: 'untold', subject: about('channel', { name: 'crew' }, 'channel crew') }, 'link', 'The channels'],
] as [Partial<Alert>, 'button' | 'link', string][])('%o offers %s "%s"', (change, role, name) => {
  show(alert(change));
  screen.getByRole(role, { name });
  screen.getByRole('button', { name: 'Acknowledge' });
});

test('what is closed says how long it was open and asks for nothing', () => {
  show(alert({ state: 'closed', closedAt: '2026-11-23T10:30:00Z', acknowledgedBy: 'mira' }));
  screen.getByText(/after 1:30 h.*seen by mira/);
  fireEvent.click(screen.getByRole('button', { name: /^More about/ }));
  expect(screen.queryByText('mend it')).toBeNull();
  expect(screen.queryByRole('button', { name: /^(Acknowledge|Close…|Run now)$/ })).toBeNull();
  screen.getByRole('link', { name: 'The run' });
});

test('what goes beyond two lines is behind a fold', () => {
  show(alert({}));
  screen.getByText('it failed');
  screen.getByRole('link', { name: 'run 12' });
  expect(screen.queryByText('mend it')).toBeNull();
  fireEvent.click(screen.getByRole('button', { name: 'More about job register on heron' }));
  screen.getByText('mend it');
  screen.getByRole('button', { name: 'Close…' });
  fireEvent.click(screen.getByRole('button', { name: 'Less about job register on heron' }));
  expect(screen.queryByText('mend it')).toBeNull();
});

test('one cause with many victims names them', () => {
  show(alert({ subject: about('store', { store: 'cellar' }, 'store cellar'), affected: ['register', 'cameras'] }));
  fireEvent.click(screen.getByRole('button', { name: /^More about/ }));
  screen.getByText('Affects 2: register, cameras.');
});
