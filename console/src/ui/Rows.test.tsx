import { MantineProvider } from '@mantine/core';
import { cleanup, fireEvent, render, screen } from '@testing-library/react';
import { afterEach, expect, test, vi } from 'vitest';
import { Rows } from './Rows';

afterEach(cleanup);

const show = (rows: string[], open?: (row: string) => void) =>
  render(
    <MantineProvider env="test">
      <Rows
        label="Things"
        rows={rows}
        rowKey={(r) => r}
        open={open}
        empty="Nothing yet; add a thing."
        columns={[{ title: 'name', cell: (r) => r }]}
      />
    </MantineProvider>,
  );

test('j, k and Enter lead through rows and open one', () => {
  const open = vi.fn();
  show(['a', 'b', 'c'], open);
  const [, a, b, c] = screen.getAllByRole('row');
  a?.focus();
  fireEvent.keyDown(document.activeElement as Element, { key: 'j' });
  expect(document.activeElement).toBe(b);
  fireEvent.keyDown(document.activeElement as Element, { key: 'j' });
  fireEvent.keyDown(document.activeElement as Element, { key: 'j' });
  expect(document.activeElement).toBe(c);
  fireEvent.keyDown(document.activeElement as Element, { key: 'k' });
  fireEvent.keyDown(document.activeElement as Element, { key: 'Enter' });
  expect(open).toHaveBeenCalledExactlyOnceWith('b');
});

test('an empty list says what to do, and a long one draws only what is in view', () => {
  show([]);
  screen.getByText('Nothing yet; add a thing.');
  cleanup();
  show(Array.from({ length: 10_000 }, (_, i) => `row ${i}`));
  expect(screen.getByRole('table').getAttribute('aria-rowcount')).toBe('10000');
  expect(screen.getAllByRole('row').length).toBeLessThan(200);
});
