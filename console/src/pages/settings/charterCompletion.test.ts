import { expect, test } from 'vitest';
import { namesIn, offerAt } from './charterCompletion';

const key = (name: string, list = false, of: string | null = null, choices: string[] = []) => ({
  key: name,
  list,
  of,
  choices,
});
const language = [
  { kind: 'settings', section: null, keys: [key('zone'), key('tells', true, 'channel')] },
  { kind: 'store', section: 'stores', keys: [key('folder'), key('layout', false, null, ['pooled', 'dated-files'])] },
  { kind: 'job', section: 'jobs', keys: [key('takes', true), key('into', true, 'store'), key('after', false, 'job')] },
];

/** The place is where the bar stands. */
const offered = (text: string) => {
  const before = text.slice(0, text.indexOf('|')).split('\n');
  return offerAt(language, text.replace('|', ''), before.length - 1, before.at(-1)?.length ?? 0)?.options.map(
    (o) => o.label,
  );
};

const stores = 'stores:\n  cellar:\n    folder: /srv\n  attic:\n    folder: /srv/b\n';

test.each([
  ['the top offers settings and sections', '|', ['zone', 'tells', 'stores', 'jobs']],
  ['what is there already is not offered again', 'zone: UTC\n|\nstores:\n', ['tells', 'jobs']],
  ['an object offers the keys of its kind', `${stores}jobs:\n  home:\n    takes: /home\n    |`, ['into', 'after']],
  ['a key that takes a few words offers them', 'stores:\n  cellar:\n    layout: |', ['pooled', 'dated-files']],
  ['a key that names objects offers those of the text', `${stores}jobs:\n  home:\n    into: |`, ['cellar', 'attic']],
  ['the same in a list on one line', `${stores}jobs:\n  home:\n    into: [cellar, |`, ['cellar', 'attic']],
  ['the same in a list of lines', `${stores}jobs:\n  home:\n    into:\n      - cellar\n      - |`, ['cellar', 'attic']],
  ['the same in a list that is not moved in', `${stores}jobs:\n  home:\n    into:\n    - |`, ['cellar', 'attic']],
  ['the name of an object is free', `${stores}jobs:\n  |`, undefined],
  ['text is free', `${stores}jobs:\n  home:\n    takes: |`, undefined],
] as [string, string, string[] | undefined][])('%s', (_, text, expected) => {
  expect(offered(text)).toEqual(expected);
});

test('names are those of a section, whatever stands below them', () => {
  expect(namesIn(stores.split('\n'), 'stores')).toEqual(['cellar', 'attic']);
  expect(namesIn(stores.split('\n'), 'jobs')).toEqual([]);
});
