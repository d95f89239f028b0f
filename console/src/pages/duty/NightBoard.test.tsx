import { MantineProvider } from '@mantine/core';
import { cleanup, render, screen, within } from '@testing-library/react';
import { MemoryRouter } from 'react-router';
import { afterEach, expect, test } from 'vitest';
import type { Duty } from '../../api/client';
import { PresentProvider } from '../../ui/Facts';
import { NightBoard } from './NightBoard';

afterEach(cleanup);

const board: Duty['board'] = [
  {
    job: 'register',
    machine: 'heron',
    stale: true,
    pause: null,
    watched: false,
    newestGoodCopy: null,
    nights: [
      { date: '2026-11-21', outcome: null, planned: 0, runId: null },
      { date: '2026-11-22', outcome: 'failed', planned: 4, runId: 12 },
      { date: '2026-11-23', outcome: 'missed', planned: 1, runId: null },
    ],
  },
];

test('a cell leads to its run, says what the night was in words, and of how many runs it shows the worst', () => {
  render(
    <MantineProvider env="test">
      <MemoryRouter>
        <PresentProvider zone="Europe/London">
          <NightBoard board={board} />
        </PresentProvider>
      </MemoryRouter>
    </MantineProvider>,
  );
  const row = screen.getByRole('row', { name: /^register/ });
  const failed = within(row).getByRole('img', { name: 'register, Sun 2026-11-22: failed, the worst of 4' });
  expect(failed.closest('a')?.getAttribute('href')).toBe('/runs/12');
  // Nothing ran on the night that was missed, so there is no run to lead to.
  expect(within(row).getByRole('img', { name: 'register, Mon 2026-11-23: missed' }).closest('a')).toBeNull();
  within(row).getByRole('img', { name: 'register, Sat 2026-11-21: none planned' });
  within(row).getByText('never');
  within(row).getByText(/stale/);
});
