import { expect, test } from 'vitest';
import { ago, midnight, size, took } from './format';

test('sizes have three significant figures and the unit that fits', () => {
  expect([0, 999, 1000, 999_499, 999_500, 1_234_567, 12_340_000, 62_400_000_000, -2_000_000].map(size)).toEqual([
    '0 B',
    '999 B',
    '1 kB',
    '999 kB',
    '1 MB',
    '1.23 MB',
    '12.3 MB',
    '62.4 GB',
    '-2 MB',
  ]);
  expect(size(null)).toBe('–');
});

test('times are told by the largest unit that says something, before and after', () => {
  const now = Date.parse('2026-11-23T09:00:00Z');
  const at = (seconds: number) => ago(new Date(now + seconds * 1000).toISOString(), now);
  expect([20, -59, -61, -7200, -47 * 3600, -49 * 3600, 90, 3 * 86400].map(at)).toEqual([
    'just now',
    'just now',
    '1 min ago',
    '2 h ago',
    '47 h ago',
    '2 days ago',
    'in 1 min',
    'in 3 days',
  ]);
  expect(ago(null, now)).toBe('never');
  expect([0.24, 59.94, 60, 3599, 3661].map(took)).toEqual(['0.2 s', '59.9 s', '1:00 min', '59:59 min', '1:01 h']);
});

test('a date begins when its zone says so, also where the clock was changed', () => {
  expect(midnight('2027-01-15', 'Europe/London')).toBe('2027-01-15T00:00:00.000Z');
  expect(midnight('2027-07-15', 'Europe/London')).toBe('2027-07-14T23:00:00.000Z');
  expect(midnight('2027-03-28', 'Europe/London')).toBe('2027-03-28T00:00:00.000Z');
  expect(midnight('2027-03-29', 'Europe/London')).toBe('2027-03-28T23:00:00.000Z');
  expect(midnight('2027-07-15', 'America/New_York')).toBe('2027-07-15T04:00:00.000Z');
});
