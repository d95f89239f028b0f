import { cleanup, render } from '@testing-library/react';
import { afterEach, expect, test } from 'vitest';
import { Glyph } from './Status';

afterEach(cleanup);

const shapeOf = (state: string | null) =>
  render(<Glyph state={state} />).container.querySelector('svg')?.innerHTML ?? '';

test('what must be told apart has a shape of its own, so that colour is never all', () => {
  const outcomes = 'ok warned suspect failed timed-out missed refused held-back cancelled not-needed running'.split(
    ' ',
  );
  expect(new Set([...outcomes, null].map(shapeOf)).size).toBe(outcomes.length + 1);
  const verdicts = ['keep', 'held', 'expire', 'frozen', 'uncounted'];
  expect(new Set(verdicts.map(shapeOf)).size).toBe(verdicts.length);
  const states = ['unchecked', 'sound', 'unsound', 'partial', 'missing'];
  expect(new Set(states.map(shapeOf)).size).toBe(states.length);
});

test('every outcome and state that the service knows has a shape that is not that of none', () => {
  const all =
    'ok warned suspect failed timed-out missed refused held-back not-needed cancelled unchecked sound unsound partial missing keep support held expire frozen uncounted queued running silent overdue nearly-full braked-prune untold stale clock service sign-ins down';
  for (const word of all.split(' ')) expect(shapeOf(word), word).not.toBe(shapeOf(null));
});
