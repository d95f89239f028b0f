import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { afterEach, expect, test } from 'vitest';
import type { Schemas } from '../../api/client';
import { refused, serve, show } from '../../testService';
import { ReportsPage } from './ReportsPage';

afterEach(cleanup);

const report = (more: Partial<Schemas['ReportListAnswer']> = {}): Schemas['ReportListAnswer'] => ({
  id: 4,
  name: 'the-week',
  every: 'week',
  from: '2026-11-16',
  to: '2026-11-23',
  madeAt: '2026-11-23T06:00:05Z',
  problem: null,
  ...more,
});

const declared = { kind: 'report', name: 'the-week', fields: {} };

test('a report leads to its page and its values once it is made, and says why it is not', async () => {
  serve({
    'GET reports': {
      items: [
        report(),
        report({ id: 5, madeAt: null, problem: 'the charter has no report gone any more' }),
        report({ id: 6, madeAt: null }),
      ],
      next: null,
    },
    'GET definitions': [declared],
  });
  show(<ReportsPage />);
  const rows = within(await screen.findByRole('region', { name: 'Reports' }))
    .getAllByRole('row')
    .slice(1);
  const links = (row: HTMLElement) =>
    within(row)
      .queryAllByRole('link')
      .map((a) => a.getAttribute('href'));
  expect(rows.map(links)).toEqual([['/api/v1/reports/4/html', '/api/v1/reports/4/csv'], [], []]);
  expect(rows[0]?.textContent).toContain('a week from 2026-11-16');
  expect(rows[1]?.textContent).toContain('no report gone any more');
  expect(rows[2]?.textContent).toContain('being made');
});

test('one is made now, and a refusal is said', async () => {
  const asked = serve({
    'GET reports': { items: [], next: null },
    'GET definitions': [declared],
    'POST reports': refused(404, 'there is no report the-week in the charter'),
  });
  show(<ReportsPage />);
  expect(await screen.findByText(/No report has been made yet/)).toBeTruthy();
  fireEvent.click(await screen.findByRole('button', { name: 'Make it now' }));
  expect(await screen.findByText(/there is no report the-week/)).toBeTruthy();
  await waitFor(() => expect(asked.find((a) => a.method === 'POST')?.body).toEqual({ name: 'the-week', from: null }));
});
