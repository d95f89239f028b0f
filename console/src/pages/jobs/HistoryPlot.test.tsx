import { MantineProvider } from '@mantine/core';
import { cleanup, render, screen } from '@testing-library/react';
import { MemoryRouter } from 'react-router';
import { afterEach, expect, test } from 'vitest';
import type { Schemas } from '../../api/client';
import { HistoryPlot } from './HistoryPlot';

afterEach(cleanup);

const point = (day: number, selectedBytes: number, outcome: Schemas['HistoryPoint']['outcome'] = 'ok') => ({
  runId: day,
  at: `2026-11-${String(day).padStart(2, '0')}T23:00:00Z`,
  outcome,
  items: 10,
  selectedBytes,
  newBytes: selectedBytes / 10,
  storedBytes: selectedBytes / 20,
  seconds: day,
});

const show = (points: ReturnType<typeof point>[]) =>
  render(
    <MantineProvider env="test">
      <MemoryRouter>
        <HistoryPlot points={points} />
      </MemoryRouter>
    </MantineProvider>,
  );

test('a history tells its range in words and writes the newest and the largest value', () => {
  const { container } = show([point(1, 4_000_000), point(2, 5_000_000), point(4, 1_000_000, 'suspect')]);
  screen.getByRole('img', { name: 'taken: from 1 MB to 5 MB over 3 runs' });
  screen.getByRole('img', { name: 'new: from 100 kB to 500 kB over 3 runs' });
  screen.getByText('1 MB');
  screen.getByText('5 MB');
  // What was off is marked in each of the three plots, and in no other place.
  expect(container.querySelectorAll('.plot-off').length).toBe(3);
});

test('points stand where their time is, and higher is more', () => {
  const { container } = show([point(1, 100), point(2, 400), point(5, 200)]);
  const [first, second, third] = [...(container.querySelector('svg')?.querySelectorAll('rect') ?? [])].map((r) => ({
    x: Number(r.getAttribute('x')),
    y: Number(r.getAttribute('y')),
  }));
  if (!first || !second || !third) throw new Error('three points are drawn');
  expect((third.x - first.x) / (second.x - first.x)).toBeCloseTo(4);
  expect(second.y).toBeLessThan(third.y);
  expect(third.y).toBeLessThan(first.y);
});

test('one run is no history', () => {
  show([point(1, 100)]);
  screen.getByText(/Two runs make a history/);
});
