import { expect, test } from 'vitest';
import { wayOut } from './waysOut';

test('a refusal with a code is followed by what to do here, never by a call of the API', () => {
  const codes = [
    'not-there',
    'which-store',
    'which-machine',
    'sign-in-needed',
    'page-out-of-date',
    'exists-already',
    'changed-meanwhile',
    'too-far-ahead',
  ];
  for (const code of codes) {
    const said = wayOut(code, { kind: 'job', name: 'register', stores: 'cellar, attic', machines: 'knot, tern' });
    expect(said).toMatch(/^[A-Z].*\.$/);
    expect(said).not.toMatch(/GET|POST|header|\?[a-z]+=|ironkeep /);
  }
  expect(wayOut('which-store', { stores: 'cellar, attic' })).toContain('cellar, attic');
  expect(wayOut(undefined)).toBeUndefined();
});
