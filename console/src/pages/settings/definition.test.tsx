import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { afterEach, expect, test } from 'vitest';
import type { Preview } from '../../api/client';
import { refused, serve, show, type Answers } from '../../testService';
import { DefinitionPage } from './DefinitionPage';
import { Field } from './Field';
import { FolderPicker } from './FolderPicker';

afterEach(cleanup);

const key = (name: string, more: object = {}) => ({ key: name, list: false, of: null, choices: [], ...more });

const language = [
  {
    kind: 'policy',
    section: 'policies',
    keys: [key('keep', { list: true }), key('at-least'), key('never-worded')],
  },
];

const preview = (more: Partial<Preview> = {}): Preview => ({
  yaml: '',
  mistakes: [],
  changes: [
    {
      change: 'changed',
      object: 'policy',
      name: 'few',
      fields: [{ field: 'keep', before: 'newest 2', after: 'newest 3' }],
    },
  ],
  consequences: [],
  nextDue: [],
  steadyState: null,
  paths: [],
  policies: [],
  roomBytes: null,
  ...more,
});

const policy: Answers = {
  'GET charter/language': language,
  'GET definitions': [],
  'GET definitions/policy/few': { kind: 'policy', name: 'few', fields: { keep: ['newest 2'] }, tag: 'tag-1', yaml: '' },
};

const open = () => show(<DefinitionPage />, '/settings/policy/few', '/settings/:kind/:name');
const save = () => screen.getByRole<HTMLButtonElement>('button', { name: 'Save' });

test('what was read is what is written over, and a change by somebody else meanwhile is said', async () => {
  const asked = serve({
    ...policy,
    'POST definitions/policy/few/preview': preview(),
    'PUT definitions/policy/few': refused(409, 'policy few was changed by tove since you read it', {
      code: 'changed-meanwhile',
      facts: { kind: 'policy', name: 'few' },
    }),
  });
  open();
  fireEvent.change(await screen.findByDisplayValue('newest 2'), { target: { value: 'newest 3' } });
  expect(save().disabled).toBe(true);
  await waitFor(() => expect(save().disabled).toBe(false));
  fireEvent.click(save());
  expect(await screen.findByText(/was changed by tove/)).toBeTruthy();
  expect(asked.find((a) => a.method === 'PUT')?.body).toEqual({ fields: { keep: ['newest 3'] } });
});

test('a mistake stands at its field and nothing can be saved with it', async () => {
  serve({
    ...policy,
    'POST definitions/policy/few/preview': preview({
      mistakes: [
        { item: 0, position: 0, about: 'policy few', field: 'keep', message: "'newest none' is not a number" },
      ],
    }),
  });
  open();
  fireEvent.change(await screen.findByDisplayValue('newest 2'), { target: { value: 'newest none' } });
  expect((await screen.findAllByText("'newest none' is not a number")).length).toBe(2);
  await new Promise((done) => setTimeout(done, 400));
  expect(save().disabled).toBe(true);
});

test('what lets copies go is agreed to first, and the agreement goes along', async () => {
  const asked = serve({
    ...policy,
    'POST definitions/policy/few/preview': preview({ consequences: ['12 copies of 3 jobs would expire'] }),
    'PUT definitions/policy/few': { changes: [], mistakes: [], consequences: [] },
  });
  open();
  fireEvent.change(await screen.findByDisplayValue('newest 2'), { target: { value: 'newest 1' } });
  expect((await screen.findAllByText(/12 copies of 3 jobs would expire/)).length).toBeGreaterThan(0);
  await new Promise((done) => setTimeout(done, 400));
  expect(save().disabled).toBe(true);
  fireEvent.click(screen.getByRole('checkbox'));
  await waitFor(() => expect(save().disabled).toBe(false));
  fireEvent.click(save());
  await waitFor(() => expect(asked.find((a) => a.method === 'PUT')?.query.get('confirm')).toBe('true'));
});

test('a key that has no words yet is offered by its name, and an object goes only when its name is typed', async () => {
  serve({ ...policy, 'POST definitions/policy/few/preview': preview() });
  open();
  fireEvent.click(await screen.findByText('More fields'));
  expect(screen.getByLabelText('never-worded')).toBeTruthy();
  fireEvent.click(screen.getByRole('button', { name: 'Remove' }));
  const dialog = within(await screen.findByRole('dialog'));
  const remove = dialog.getByRole<HTMLButtonElement>('button', { name: 'Remove' });
  expect(remove.disabled).toBe(true);
  fireEvent.change(dialog.getByRole('textbox'), { target: { value: 'fewer' } });
  expect(remove.disabled).toBe(true);
  fireEvent.change(dialog.getByRole('textbox'), { target: { value: 'few' } });
  expect(remove.disabled).toBe(false);
});

test('names come from what the charter declares, and one that is gone stays in sight with its mistake', async () => {
  serve({
    'GET definitions': [
      { kind: 'store', name: 'cellar', fields: {}, tag: '', yaml: '' },
      { kind: 'policy', name: 'few', fields: {}, tag: '', yaml: '' },
    ],
  });
  const values: string[][] = [];
  show(
    <Field
      spec={{ key: 'into', label: 'Into' }}
      takes={key('into', { list: true, of: 'store' })}
      values={['attic']}
      mistake="there is no store 'attic'"
      set={(v) => values.push(v)}
    />,
  );
  expect(screen.getByText("there is no store 'attic'")).toBeTruthy();
  const input = screen.getByRole('combobox');
  fireEvent.click(input);
  await waitFor(() => expect(screen.getAllByRole('option').map((o) => o.textContent)).toEqual(['cellar', 'attic']));
  fireEvent.click(screen.getByRole('option', { name: 'cellar' }));
  expect(values).toEqual([['attic', 'cellar']]);
});

test('a folder is walked to, one that cannot be opened says why, and only one that was seen is chosen', async () => {
  const chosen: string[] = [];
  serve({
    'GET folders': ({ query }: { query: URLSearchParams }) =>
      query.get('path') === '/srv/locked'
        ? refused(409, '/srv/locked cannot be read: permission denied')
        : { path: query.get('path'), above: '/', folders: ['locked', 'rings'], truncated: query.get('path') === '/' },
  });
  show(<FolderPicker start="not absolute" close={() => undefined} choose={(p) => chosen.push(p)} />);
  const dialog = within(await screen.findByRole('dialog'));
  expect(await dialog.findByText(/There are more; type the path/)).toBeTruthy();
  cleanup();
  show(<FolderPicker start="/srv" close={() => undefined} choose={(p) => chosen.push(p)} />);
  const again = within(await screen.findByRole('dialog'));
  fireEvent.click(await again.findByRole('button', { name: 'locked' }));
  expect(await again.findByText(/permission denied/)).toBeTruthy();
  expect(again.getByRole<HTMLButtonElement>('button', { name: 'Choose /srv/locked' }).disabled).toBe(true);
  fireEvent.click(again.getByRole('button', { name: 'srv' }));
  fireEvent.click(await again.findByRole('button', { name: 'rings' }));
  await waitFor(() =>
    expect(again.getByRole<HTMLButtonElement>('button', { name: 'Choose /srv/rings' }).disabled).toBe(false),
  );
  fireEvent.click(again.getByRole('button', { name: 'Choose /srv/rings' }));
  expect(chosen).toEqual(['/srv/rings']);
});
