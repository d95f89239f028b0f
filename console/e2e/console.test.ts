import { execFileSync } from 'node:child_process';
import { AxeBuilder } from '@axe-core/playwright';
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { openBrowser, signIn } from './browser.mjs';
import { startDemo, type Demo } from './demo';

let demo: Demo;
let browser: BrowserContext;
let page: Page;
const problems: string[] = [];

beforeAll(async () => {
  demo = await startDemo();
  browser = await openBrowser();
  page = await browser.newPage();
  page.setDefaultTimeout(90_000);
  page.on('pageerror', (e) => problems.push(e.message));
});

afterAll(async () => {
  await browser?.close();
  demo?.stop();
});

test('leads to the sign-in page, says when a password is wrong, and lets the right one in', async () => {
  await page.goto(`${demo.url}/copies`);
  expect(new URL(page.url()).pathname).toBe('/sign-in');
  await page.getByLabel('Name').fill(demo.name);
  await page.getByLabel('Password').fill('not the password');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.getByText('Name or password is not right.').waitFor();
  await signIn(page, demo.url, demo.name, demo.password);
});

test('Duty shows what needs a person and sums that add up', async () => {
  await page.goto(demo.url);
  const matters = page.getByRole('region', { name: 'Open alerts' });
  await matters.getByText('store lighthouse', { exact: true }).waitFor();
  await matters.getByText('job web-site on heron').waitFor();
  const sums = await page.getByRole('region', { name: 'Sums of the last night' }).locator('b').allTextContents();
  const [planned = 0, ...parts] = sums.map(Number);
  expect(planned).toBeGreaterThan(0);
  expect(parts.reduce((a, b) => a + b, 0)).toBe(planned);
  const board = page.getByRole('region', { name: 'Night board' });
  expect(await board.getByRole('row').count()).toBe(19);
  expect(await board.getByRole('img', { name: /missed/ }).count()).toBeGreaterThan(3);

  const badge = page.getByLabel(/open alerts$/);
  const before = Number(await badge.textContent());
  await matters.getByRole('button', { name: 'Acknowledge' }).first().click();
  await matters.getByText(/seen by mira/).waitFor();
  await expect.poll(async () => Number(await badge.textContent())).toBe(before - 1);
});

test('a job runs at a click, moves by itself and closes what it heals', async () => {
  await page.goto(`${demo.url}/jobs?find=hide`);
  const row = page.getByRole('row').filter({ hasText: 'hide-cameras' });
  await row.waitFor();
  expect(await page.getByRole('row').count()).toBe(2);
  await row.getByRole('button', { name: 'Run hide-cameras now' }).click();
  await row.getByText('just now').first().waitFor();
  await row.getByText('ok', { exact: true }).waitFor();
  // The check after it finds the store sound again; Duty hears of it without a reload.
  await page.goto(`${demo.url}/stores`);
  const store = page.getByRole('region', { name: 'Store lighthouse' });
  await store.getByRole('button', { name: 'Check every byte' }).click();
  await store.getByText('just now').first().waitFor();
  await page.getByRole('link', { name: 'Duty' }).click();
  await page.getByText('job web-site on heron').waitFor();
  await expect.poll(() => page.getByText('store lighthouse', { exact: true }).count()).toBe(0);
});

test('a suspect run is looked at, set beside the one before it, and confirmed', async () => {
  await page.goto(demo.url);
  const matter = page.getByRole('article').filter({ hasText: 'job call-recordings on heron' });
  await matter.getByText('are usual').waitFor();
  await matter.getByRole('link', { name: /^run / }).click();
  await page.getByText('before').first().waitFor();
  await page.getByRole('button', { name: 'Confirm the run' }).click();
  await page.getByText('confirmed by mira').waitFor();
  await page.getByRole('link', { name: 'Duty' }).click();
  await page.getByText('job web-site on heron').waitFor();
  await expect.poll(() => page.getByText('job call-recordings on heron').count()).toBe(0);
});

test('a file is found across copies and an older version of it comes back', async () => {
  await page.goto(`${demo.url}/copies`);
  await page.getByLabel('Find a file in all copies').fill(`${new Date().getUTCFullYear()}.csv`);
  const found = page.getByRole('region', { name: 'Found' });
  await found.getByRole('row').nth(1).getByRole('button').click();
  const dialog = page.getByRole('dialog');
  await dialog.getByRole('button', { name: 'Restore this' }).nth(2).click();
  await dialog.getByLabel(/Restore to this folder/).fill(join(demo.folder, 'older'));
  await dialog.getByRole('button', { name: 'Restore', exact: true }).click();
  await dialog.getByText('1 file (').waitFor();
  const file = `data/ringing-register/${new Date().getUTCFullYear()}.csv`;
  const now = readFileSync(join(demo.folder, file), 'utf8');
  const older = readFileSync(join(demo.folder, 'older', demo.folder, file), 'utf8');
  expect(older.length).toBeGreaterThan(0);
  expect(older.length).toBeLessThan(now.length);
  expect(now.startsWith(older)).toBe(true);
});

test('a store says what opens it, gives a recovery sheet once, and a wrong folder is not attached', async () => {
  await page.goto(`${demo.url}/stores`);
  const store = page.getByRole('region', { name: 'Store lighthouse' });
  await store.getByRole('button', { name: 'Keys and passphrases' }).click();
  const dialog = page.getByRole('dialog');
  await dialog.getByText('used by the service').waitFor();
  await dialog.getByLabel('New recovery sheet').fill('harbour office');
  await dialog.getByRole('button', { name: 'Create' }).click();
  const sheet = await dialog.getByLabel('Recovery sheet', { exact: true }).textContent();
  const code = sheet?.match(/([0-9A-Z]{8}-){3}[0-9A-Z]{8}/)?.[0] ?? '';
  expect(code).not.toBe('');
  // A key pressed by chance does not throw the only showing away.
  await page.keyboard.press('Escape');
  await dialog.getByRole('button', { name: 'It is locked away' }).click();
  await dialog.getByRole('button', { name: 'Withdraw harbour office' }).click();
  await expect.poll(() => dialog.getByText('harbour office').count()).toBe(0);
  expect(await page.content()).not.toContain(code);
  await page.keyboard.press('Escape');

  await page.getByRole('button', { name: 'Attach a store' }).click();
  await dialog.getByLabel(/^Name/).fill('attic');
  await dialog.getByLabel(/^Folder/).fill(demo.folder);
  await dialog.getByRole('button', { name: 'Attach' }).click();
  await dialog.getByText('there is no store at').waitFor();
});

test('chosen folders of a copy are downloaded as an archive that tar reads', async () => {
  await page.goto(`${demo.url}/copies/${await newestCopy()}`);
  await page.getByRole('checkbox').first().check();
  const waiting = page.waitForEvent('download');
  await page.getByRole('link', { name: 'Download the chosen' }).click();
  const file = await (await waiting).path();
  const names = execFileSync('tar', ['tf', file]).toString().trim().split('\n');
  expect(names.length).toBeGreaterThan(0);
  expect(names.every((n) => n.startsWith(demo.folder.slice(1)))).toBe(true);
});

test('a copy says why it is here, and is held and released', async () => {
  await page.goto(`${demo.url}/copies/${await newestCopy()}`);
  await page.getByRole('button', { name: 'Why is it here?' }).click();
  await page.getByRole('region', { name: 'Why this copy is here' }).getByText('floor:').waitFor();
  await page.getByRole('button', { name: 'Hold' }).click();
  await page.getByRole('textbox', { name: 'Why' }).fill('for the survey');
  await page.getByRole('dialog').getByRole('button', { name: 'Hold' }).click();
  await page
    .getByText(/held by mira until/)
    .first()
    .waitFor();
  await page.getByRole('button', { name: 'Release' }).click();
  await page.getByRole('button', { name: 'Hold' }).waitFor();
});

test('a job is changed in a form that shows mistakes and effect while typing', async () => {
  await page.goto(`${demo.url}/settings/job/tide-weather`);
  const when = page.getByLabel('When', { exact: true });
  await when.fill('daly at 05:00');
  await page.getByText("did you mean 'daily'?").first().waitFor();
  expect(await page.getByRole('button', { name: 'Save' }).isDisabled()).toBe(true);
  await when.fill('every 3 hours');
  await page.getByText('when: every 6 hours → every 3 hours').waitFor();
  expect(await page.getByRole('region', { name: 'Next due' }).getByRole('row').count()).toBe(5);
  await page.getByRole('region', { name: 'What it keeps' }).getByText('tide-weather').waitFor();
  await page.getByRole('button', { name: 'Save' }).click();
  await page.getByRole('heading', { level: 1, name: 'tide-weather' }).waitFor();
  await page
    .getByRole('region', { name: 'Next due' })
    .getByRole('heading', { name: /every 3 hours/ })
    .waitFor();
  await page.getByRole('img', { name: /^taken: from/ }).waitFor();
});

test('a job is paused with a reason and resumed', async () => {
  await page.goto(`${demo.url}/jobs/web-site`);
  await page.getByRole('button', { name: 'Pause' }).click();
  await page.getByRole('textbox', { name: 'Why' }).fill('it is being moved');
  await page.getByRole('dialog').getByRole('button', { name: 'Pause' }).click();
  await page.getByRole('alert').filter({ hasText: 'it is being moved' }).waitFor();
  await page.goto(`${demo.url}/jobs?state=paused`);
  await page.getByRole('row').filter({ hasText: 'web-site' }).waitFor();
  expect(await page.getByRole('row').count()).toBe(2);
  await page.goto(`${demo.url}/jobs/web-site`);
  await page.getByRole('button', { name: 'Resume' }).click();
  await page.getByRole('button', { name: 'Pause' }).waitFor();
});

test('closed alerts are found again, and a channel is tried', async () => {
  await page.goto(`${demo.url}/alerts?state=closed&class=silent`);
  await page.getByText('nothing was heard from heron').waitFor();
  await page.getByText(/closed .* after/).waitFor();
  await page.getByRole('button', { name: 'Try it' }).first().click();
  await page.getByText('the test went through').waitFor();
  expect(readdirSync(join(demo.folder, 'mail')).length).toBeGreaterThan(30);
});

test('a report is made now and is a page of its own, and an alert asks once before it runs its job again', async () => {
  await page.goto(`${demo.url}/reports`);
  await page.getByRole('button', { name: 'Make it now' }).click();
  await page.getByText('just now').first().waitFor();
  const [report] = await Promise.all([
    page.context().waitForEvent('page'),
    page.getByRole('link', { name: 'the-week' }).first().click(),
  ]);
  await report.getByRole('heading', { name: 'What went wrong, and why' }).waitFor();
  // It is one printed page or two, and nothing of it is cut off at A4's width.
  await report.setViewportSize({ width: 680, height: 1000 });
  expect(await report.evaluate(() => document.documentElement.scrollWidth <= window.innerWidth)).toBe(true);
  await report.close();
  await page.goto(`${demo.url}/alerts`);
  await page.getByRole('link', { name: 'job web-site on heron' }).first().click();
  await page.getByRole('button', { name: 'Run again…' }).first().click();
  const dialog = page.getByRole('dialog');
  await dialog.getByText(/Runs web-site again/).waitFor();
  await dialog.getByRole('button', { name: /Wait for the next run/ }).waitFor();
  await dialog.getByRole('button', { name: 'Cancel' }).click();
});

test('a matter is silenced until a day, noted, and looked at again from its own page', async () => {
  await page.goto(`${demo.url}/alerts`);
  const item = page.getByRole('article').filter({ hasText: 'job tide-sender on avocet' });
  await item.getByRole('link', { name: 'job tide-sender on avocet' }).click();
  await page.getByRole('heading', { level: 1, name: 'Job tide-sender on avocet' }).waitFor();
  await page.getByRole('button', { name: 'Known until…' }).click();
  const dialog = page.getByRole('dialog');
  await dialog.getByLabel(/Why/).fill('the aerial is being mended');
  await dialog.getByRole('button', { name: 'Nobody needs to be told' }).click();
  await page.getByText(/Known to mira until .*: the aerial is being mended/).waitFor();
  await page.getByLabel('Note', { exact: true }).fill('the mast lost its stay in the gale');
  await page.getByRole('button', { name: 'Add the note' }).click();
  const done = page.getByRole('region', { name: 'What was done' });
  await done.getByText('the mast lost its stay in the gale').waitFor();
  await page.goto(`${demo.url}/alerts?find=tide-sender`);
  await page.getByText(/known until/).waitFor();
  await page.getByRole('link', { name: 'job tide-sender on avocet' }).first().click();
  await page.getByRole('button', { name: 'Acknowledge' }).click();
  await done.getByText('Acknowledged').waitFor();
});

test('a file is found in a copy, restored in three steps, and is the same', async () => {
  await page.goto(`${demo.url}/copies?job=tide-weather`);
  await page.getByRole('row').nth(1).click();
  await page.getByRole('region', { name: 'What it holds' }).getByText('tide', { exact: true }).click();
  const file = page.getByRole('row').filter({ hasText: '.jsonl' }).first();
  const name = (await file.getByRole('checkbox').getAttribute('aria-label'))?.replace('Choose ', '') ?? '';
  await file.getByRole('checkbox').check();
  await page.getByRole('button', { name: 'Restore the chosen' }).click();
  const target = join(demo.folder, 'restored');
  await page.getByLabel(/Restore to this folder/).fill(join(demo.folder, 'stores/lighthouse/x'));
  const dialog = page.getByRole('dialog');
  await dialog.getByRole('button', { name: 'Restore', exact: true }).click();
  await dialog.getByText('lies inside store lighthouse').waitFor();
  await page.getByLabel(/Restore to this folder/).fill(target);
  await dialog.getByRole('button', { name: 'Restore', exact: true }).click();
  await dialog.getByText('1 file (').waitFor();
  const back = join(target, demo.folder, 'data/tide', name);
  expect(readFileSync(back).equals(readFileSync(join(demo.folder, 'data/tide', name)))).toBe(true);
});

test('a prune plan is looked at, needs its fingerprint, and moves what it said to the bin', async () => {
  await page.goto(`${demo.url}/jobs/ringing-register/prune`);
  const verdicts = page.getByRole('region', { name: 'Copies with verdicts' });
  await verdicts.getByText('newest 3: number 1').waitFor();
  const going = await verdicts.getByText('expire', { exact: true }).count();
  expect(going).toBeGreaterThan(0);
  const button = page.getByRole('button', { name: /to the bin$/ });
  expect(await button.isDisabled()).toBe(true);
  const fingerprint = (await page.locator('label .mono').textContent()) ?? '';
  await page.getByLabel(/Type the fingerprint/).fill(fingerprint);
  await button.click();
  await page.getByText(`ringing-register went to the bin of store marsh-house`).waitFor();
  expect(readdirSync(join(demo.folder, 'stores/marsh-house/bin')).length).toBeGreaterThanOrEqual(going);
});

test('a charter shows its mistakes while typing and its difference before it is put in force', async () => {
  await page.goto(`${demo.url}/settings/charter`);
  const text = page.getByLabel('Charter (YAML)');
  const answer = await page.request.get(`${demo.url}/api/v1/charter`);
  const { yaml, revision } = (await answer.json()) as { yaml: string; revision: number };
  const write = async (whole: string) => {
    await text.click();
    await page.keyboard.press('Control+a');
    await page.keyboard.insertText(whole);
  };
  await write(yaml.replace('when: daily at 23:00', 'when: daly at 23:00'));
  const mistakes = page.getByRole('region', { name: 'What it would do' });
  await mistakes.getByText("did you mean 'daily'?").waitFor();
  expect(await page.getByRole('button', { name: 'Apply' }).isDisabled()).toBe(true);
  // The mistake leads to its line, where it is marked.
  await mistakes.getByRole('button', { name: /^line/ }).click();
  await page.locator('.cm-lintRange-error').getByText('daly').waitFor();
  await page.locator('.cm-activeLine').getByText('daly').waitFor();
  // What the reader knows is offered: a key, and the names that are declared.
  await page.keyboard.press('End');
  await page.keyboard.type('\nretr');
  await page.locator('.cm-tooltip-autocomplete').getByText('retries').waitFor();
  await page.keyboard.press('Escape');
  await write(yaml.replace('when: daily at 23:00', 'when: daily at 23:30'));
  await page.getByText('when: daily at 23:00 → daily at 23:30').waitFor();
  await page.getByRole('button', { name: 'Apply' }).click();
  await page.getByText(`revision ${String(revision + 1)}`).waitFor();
  // Two days reach a day and a half ahead, so that the next 23:30 is among them at whatever hour this is read.
  await page.goto(`${demo.url}/timetable?hours=48`);
  await page.getByRole('region', { name: 'Runs to come' }).getByText('23:30').first().waitFor();
});

test('keys lead through lists and to any page', async () => {
  await page.goto(`${demo.url}/jobs`);
  await page.getByRole('row').nth(1).waitFor();
  await page.keyboard.press('j');
  await page.keyboard.press('j');
  await page.keyboard.press('Enter');
  await page.getByRole('heading', { level: 1, name: 'camera-sweep' }).waitFor();
  await page.keyboard.press('Control+k');
  await page.getByPlaceholder('Go to a page or a job').fill('web-s');
  await page.keyboard.press('Enter');
  await page.getByRole('heading', { level: 1, name: 'web-site' }).waitFor();
});

test('the timetable is dragged and moved by keys, and the stretch stays in the address', async () => {
  // Two days reach half a day back, where a job of every six hours has run at whatever hour this is read.
  await page.goto(`${demo.url}/timetable?hours=48`);
  const axis = page.getByLabel('Time axis');
  await axis.getByText('heron').waitFor();
  await axis
    .getByLabel(/tide-weather, due .*: ok/)
    .first()
    .waitFor();
  await axis
    .getByLabel(/tide-weather, due .*expected/)
    .first()
    .waitFor();
  await page.goto(`${demo.url}/timetable`);
  await axis.getByText('heron').waitFor();
  const box = await axis.boundingBox();
  if (!box) throw new Error('the axis is not drawn');
  await page.mouse.move(box.x + box.width - 60, box.y + 12);
  await page.mouse.down();
  await page.mouse.move(box.x + box.width - 360, box.y + 12, { steps: 4 });
  await page.mouse.up();
  await page.waitForURL(/from=/);
  await expect.poll(() => page.getByRole('button', { name: 'Now' }).isEnabled()).toBe(true);
  const dragged = new URL(page.url()).searchParams.get('from') ?? '';
  expect(Date.parse(dragged)).toBeGreaterThan(Date.now() - 6 * 3_600_000 + 2 * 3_600_000);
  await axis.focus();
  await page.keyboard.press('ArrowLeft');
  await expect.poll(() => new URL(page.url()).searchParams.get('from')).not.toBe(dragged);
  expect(Date.parse(dragged) - Date.parse(new URL(page.url()).searchParams.get('from') ?? '')).toBe(6 * 3_600_000);
  await page.getByText('by store').click();
  await axis.getByText('marsh-house').first().waitFor();
  await page.getByRole('button', { name: 'Now' }).click();
  await expect.poll(() => new URL(page.url()).searchParams.get('from')).toBeNull();
  await page.getByLabel('What a new address is for').fill('wall calendar');
  await page.getByRole('button', { name: 'Make an address' }).click();
  const address = (await page.getByText(/\/calendar\/[0-9a-f]+\.ics/).textContent()) ?? '';
  expect(await (await fetch(address)).text()).toContain('BEGIN:VCALENDAR');
  await page.getByRole('button', { name: 'Revoke' }).click();
  await expect.poll(async () => (await fetch(address)).status).toBe(404);
});

test('the forecast begins with what goes wrong, and the rotation calendar marks the short night', async () => {
  await page.goto(`${demo.url}/timetable/forecast`);
  const findings = page.getByLabel('Findings');
  await findings.getByText('store lighthouse').waitFor();
  await findings.getByText(/will be full: 80 MB with 5 MB in reserve/).waitFor();
  await page.getByLabel(/^lighthouse: from .* of 75 MB$/).waitFor();
  await page.getByText('30 days').click();
  await page.waitForURL(/days=30/);
  await expect.poll(() => findings.getByText(/will be full/).count()).toBe(0);
  await page.goto(`${demo.url}/media?span=year`);
  await page
    .getByLabel(/^\d{4}-\d\d-\d\d: short$/)
    .first()
    .waitFor();
  await page.getByText('3 would be enough').waitFor();
  await page.getByText('6 weeks').click();
  await page.getByRole('group', { name: 'Six weeks' }).getByText('ferry-1').first().waitFor();
});

test('a ready scheme is played before it is chosen, and then takes turns', async () => {
  await page.goto(`${demo.url}/media`);
  await page.getByRole('link', { name: 'Ready schemes' }).click();
  const shown = page.getByLabel('What it would be');
  await shown.getByText('23 media').waitFor();
  await page.getByLabel('Two disks').click();
  await shown.getByText('2 media').waitFor();
  await shown.getByText('7 nights').waitFor();
  const name = page.getByRole('textbox', { name: 'Name of the set' });
  await name.fill('ferry');
  await shown.getByText('There is a rotation set ferry already').waitFor();
  const add = page.getByRole('button', { name: 'Add to the charter' });
  expect(await add.isDisabled()).toBe(true);
  await name.fill('punt');
  await page.getByLabel(/^Nights until they change/).fill('3');
  await shown.getByText('3 nights').waitFor();
  await shown.getByRole('cell', { name: '60 hours' }).waitFor();
  await add.click();
  await page.getByRole('region', { name: 'Rotation set punt' }).getByText('punt-disk-1').first().waitFor();
});

test('the policy editor shows every copy with its verdict, now and on a date to come', async () => {
  await page.goto(`${demo.url}/settings/policy/season`);
  await page.getByText('Its copies now').waitFor();
  const keep = page.getByRole('textbox', { name: 'Keep' });
  await keep.fill('newest 2');
  await page
    .getByLabel(/: expire$/)
    .first()
    .waitFor();
  await page
    .getByText(/would go/)
    .first()
    .waitFor();
  await keep.fill('newest 2 then 3 monthly');
  await page.getByRole('slider').focus();
  await page.keyboard.press('End');
  await page.getByText(/as if pruned after every success/).waitFor();
  await expect.poll(() => page.getByText('5 stay').count()).toBeGreaterThan(0);
  await page.getByText('Every copy with its reason').first().click();
  await page
    .getByText(/3 monthly: newest of/)
    .first()
    .waitFor();
});

test('a job says when it was due and why', async () => {
  await page.goto(`${demo.url}/jobs/tide-weather`);
  await page
    .getByLabel('When and why')
    .getByText(/shifted by the quiet hours 11:30 to 13:00/)
    .first()
    .waitFor();
  await page.goto(`${demo.url}/jobs/tide-sender`);
  await page.getByText('nothing was heard of it within 1 hour').first().waitFor();
  expect(await page.getByRole('button', { name: 'Run now' }).count()).toBe(0);
});

test('two copies are compared down to a text side by side', async () => {
  await page.goto(`${demo.url}/jobs/ringing-register`);
  await page.getByRole('link', { name: 'What changed' }).click();
  const differs = page.getByRole('region', { name: 'What differs' });
  await page.waitForURL(/\/compare/);
  // Two copies between which the stations worked, whatever the hour is: the day's work comes at noon.
  const answer = await page.request.get(`${demo.url}/api/v1/copies?job=ringing-register&limit=40`);
  const { items } = (await answer.json()) as { items: { id: string; store: string; taken: string }[] };
  const to = items[0];
  if (!to) throw new Error('the job has no copy');
  const before = items.filter((c) => c.store === to.store);
  const from = before.find((c) => Date.parse(to.taken) - Date.parse(c.taken) > 36 * 3_600_000);
  await page.goto(`${demo.url}/jobs/ringing-register/compare?store=${to.store}&to=${to.id}&from=${from?.id}`);
  const file = differs
    .getByRole('row')
    .filter({ hasText: /20\d\d\.csv/ })
    .filter({ hasText: 'changed' })
    .first();
  await file.waitFor();
  await file.getByRole('button', { name: /^Text of/ }).click();
  const dialog = page.getByRole('dialog');
  await dialog.locator('.cm-changedLine, .cm-insertedLine').first().waitFor();
  await page.keyboard.press('Escape');
  await differs.getByRole('button', { name: '/', exact: true }).click();
  await expect.poll(() => new URL(page.url()).searchParams.get('path')).toBe('/');
  await page.goto(`${demo.url}/copies?job=ringing-register&store=lighthouse&state=sound`);
  await page.getByRole('row').nth(1).waitFor();
  expect(await page.getByRole('row').filter({ hasText: 'marsh-house' }).count()).toBe(0);
  await page.goto(`${demo.url}/copies?to=2001-01-01`);
  await page.getByText('No copy fits').waitFor();
});

test('a form offers what there is, and a folder is looked for', async () => {
  await page.goto(`${demo.url}/settings/job/new`);
  await page.getByLabel('Stores', { exact: true }).first().click();
  await page.getByRole('option', { name: 'marsh-house' }).click();
  // Looking begins where something was typed: what else lies beside it is not this test's.
  const takes = page.getByRole('textbox', { name: 'What to back up' });
  await takes.fill(demo.folder);
  await page.getByRole('button', { name: 'Choose a folder for What to back up' }).click();
  const dialog = page.getByRole('dialog');
  await dialog.getByRole('button', { name: 'data', exact: true }).click();
  await dialog.getByRole('button', { name: `Choose ${demo.folder}/data` }).click();
  expect(await takes.inputValue()).toBe(`${demo.folder}\n${demo.folder}/data`);
});

test('a machine is enrolled with a command to paste, and what cannot be enrolled says why', async () => {
  await page.goto(`${demo.url}/machines`);
  await page.getByRole('button', { name: 'Enrol a machine' }).click();
  const dialog = page.getByRole('dialog');
  await dialog.getByRole('textbox', { name: 'Machine' }).fill('heron');
  await dialog.getByRole('button', { name: 'Make the code' }).click();
  await dialog.getByText(/needs no agent/).waitFor();
  await dialog.getByRole('textbox', { name: 'Machine' }).fill('dunlin');
  await dialog.getByRole('button', { name: 'Make the code' }).click();
  const command = await dialog.getByLabel('Command').textContent();
  expect(command).toMatch(/^ironkeep-agent join https:\/\/127\.0\.0\.1:\d+ --code join\.\S{67}$/);
  await dialog.getByRole('button', { name: 'Done' }).click();
  await page.getByRole('row').filter({ hasText: 'dunlin' }).getByText('code made').waitFor();
});

test('machines are filtered by how they are protected, and one shows its jobs with where their values come from', async () => {
  await page.goto(`${demo.url}/machines`);
  const list = page.getByRole('table', { name: 'Machines' });
  await list.getByRole('row').filter({ hasText: 'gannet' }).getByText('uncovered').waitFor();
  await list.getByRole('row').filter({ hasText: 'petrel' }).getByText('excepted only').waitFor();
  await page
    .getByRole('group', { name: 'Coverage' })
    .getByRole('button', { name: /^retired 1/ })
    .click();
  await expect.poll(() => list.getByRole('row').count()).toBe(2);
  await list.getByRole('link', { name: 'fulmar' }).click();
  await page.getByText('kept until 2027-11-02; tobias decides').waitFor();
  await page.goto(`${demo.url}/machines/curlew`);
  await page.getByRole('table', { name: 'Jobs of the machine' }).getByRole('button', { name: 'Values' }).click();
  const values = page.getByRole('table', { name: 'Values' });
  await values.getByRole('row').filter({ hasText: 'takes' }).getByText('curlew/specimens').waitFor();
  await values.getByRole('row').filter({ hasText: 'into' }).getByText('group to-the-marsh').waitFor();
});

test('a form shows the machines that an expression takes, and what a change reaches', async () => {
  await page.goto(`${demo.url}/settings/job/shore-counts`);
  const machines = page.getByRole('region', { name: 'Its machines' });
  await machines.getByText('tern-1, tern-2, tern-3, tern-4, tern-5, tern-6').waitFor();
  await page.getByRole('textbox', { name: 'Machines' }).fill('site = hides and not tag little-sun and name = tern-*');
  await machines.getByText('tern-1, tern-3, tern-4, tern-6', { exact: true }).waitFor();
  await page
    .getByRole('region', { name: 'Machines that it reaches' })
    .getByText('Job shore-counts leaves 2 machines')
    .waitFor();
});

test('a job on many machines is a board of machines by night', async () => {
  await page.goto(`${demo.url}/jobs/shore-counts`);
  await page.getByText(/^on 6 machines/).waitFor();
  await page.getByRole('table', { name: 'Machines of the job' }).getByRole('link', { name: 'tern-3' }).click();
  await page.getByRole('heading', { level: 1, name: 'shore-counts on tern-3' }).waitFor();
});

test('a list of machines is brought in once it was said what is wrong with it and who comes', async () => {
  await page.goto(`${demo.url}/machines`);
  await page.getByRole('button', { name: 'Import' }).click();
  const dialog = page.getByRole('dialog');
  await dialog
    .getByRole('textbox', { name: 'The list', exact: true })
    .fill('name,owner\nsanderling,mira\nSander ling,mira\n');
  await dialog.getByText(/^Line 3: /).waitFor();
  expect(await dialog.getByRole('button', { name: 'Bring them in' }).isDisabled()).toBe(true);
  await dialog
    .getByRole('textbox', { name: 'The list', exact: true })
    .fill('name,owner,colour\nsanderling,mira,grey\n');
  await dialog.getByText('1 machine listed: 1 would come, 0 would change').waitFor();
  await dialog.getByText('Nothing is made of 1 column: colour.').waitFor();
  await dialog.getByRole('button', { name: 'Bring them in' }).click();
  await page
    .getByRole('link', { name: 'sanderling' })
    .or(page.getByText('sanderling', { exact: true }))
    .first()
    .waitFor();
  await page.goto(`${demo.url}/machines/sanderling`);
  await page.getByRole('heading', { level: 1, name: 'sanderling' }).waitFor();
});

test('copies are counted by machine, and lead to those of one', async () => {
  await page.goto(`${demo.url}/copies`);
  await page.getByRole('button', { name: 'By machine' }).click();
  await page.getByRole('table', { name: 'Copies by machine' }).getByText('curlew', { exact: true }).click();
  await page.waitForURL(/\/copies\?machine=curlew$/);
  const of = page.getByRole('table', { name: 'Copies', exact: true }).getByRole('row');
  await of.nth(1).waitFor();
  expect(await of.getByText('curlew', { exact: true }).count()).toBe((await of.count()) - 1);
});

describe('every page can be used at every width', () => {
  const paths = [
    '/',
    '/alerts',
    '/alerts/1',
    '/jobs',
    '/jobs/ringing-register',
    '/jobs/ringing-register/prune',
    '/jobs/ringing-register/compare',
    '/runs/5',
    '/timetable',
    '/timetable/forecast',
    '/media',
    '/media?span=year',
    '/media/schemes',
    '/copies',
    '/copies?find=csv',
    '/copies?by=machine',
    '/stores',
    '/machines',
    '/machines/curlew',
    '/jobs/shore-counts',
    '/runs/waiting',
    '/settings',
    '/settings/charter',
    '/settings/job/tide-weather',
    '/settings/log-rules/camera-sweep',
  ];
  // In a page of its own: one that ran out of time still walks on, and may not walk on under the next.
  test.each([390, 768, 1280, 1920])('at %i', { timeout: 900_000 }, async (width) => {
    const own = await browser.newPage();
    own.setDefaultTimeout(90_000);
    await own.setViewportSize({ width, height: 800 });
    const wide: string[] = [];
    for (const path of paths) {
      await own.goto(demo.url + path);
      await own.getByRole('heading', { level: 1 }).waitFor();
      await expect.poll(() => own.getByLabel('Loading').count()).toBe(0);
      const over = await own.evaluate(() => {
        const most = document.documentElement.clientWidth;
        if (document.documentElement.scrollWidth <= most) return '';
        const out = [...document.querySelectorAll('main *')].find((e) => e.getBoundingClientRect().right > most + 1);
        return `${document.documentElement.scrollWidth} because of ${out?.tagName} ${out?.className}`;
      });
      if (over) wide.push(`${path}: ${over}`);
    }
    await own.close();
    expect(wide).toEqual([]);
  });

  test('a call at night on a phone: what is wrong, why, and the rerun', async () => {
    await page.setViewportSize({ width: 390, height: 844 });
    await page.goto(demo.url);
    const matter = page.getByRole('article').filter({ hasText: 'job web-site on heron' });
    const button = matter.getByRole('button', { name: 'Run now' });
    await button.scrollIntoViewIfNeeded();
    const box = await button.boundingBox();
    expect(box && box.height >= 32 && box.x >= 0 && box.x + box.width <= 390).toBe(true);
    await matter.getByRole('button', { name: /^More about/ }).click();
    await matter.getByText(/Check that every path/).waitFor();
    await button.click();
    await matter.getByText(/times/).waitFor();
    await page.getByRole('button', { name: 'Open the menu' }).click();
    await page.getByRole('link', { name: 'Alerts', exact: true }).click();
    await page.getByRole('heading', { level: 1, name: 'Alerts' }).waitFor();
    expect(await page.getByRole('link', { name: 'Timetable' }).isVisible()).toBe(false);
    await page.setViewportSize({ width: 1280, height: 800 });
  });
});

describe('axe finds nothing serious', () => {
  const paths = [
    '/',
    '/jobs',
    '/jobs/web-site',
    '/jobs/web-site/prune',
    '/runs/5',
    '/timetable',
    '/timetable/forecast',
    '/media',
    '/media?span=year',
    '/media/schemes?scheme=tower-of-hanoi&span=year',
    '/settings/policy/season',
    '/jobs/tide-sender',
    '/copies',
    '/copies/newest',
    '/stores',
    '/machines',
    '/machines/plover',
    '/jobs/shore-counts',
    '/alerts?state=all',
    '/copies?find=html',
    '/jobs/ringing-register/compare',
    '/settings',
    '/settings/charter',
    '/settings/job/ringing-register',
    '/settings/channel/new',
    '/nowhere',
  ];
  test.each(paths)('on %s, in light and in dark', async (path) => {
    await page.emulateMedia({ colorScheme: 'light' });
    await page.goto(demo.url + (path === '/copies/newest' ? `/copies/${await newestCopy()}` : path));
    await page.getByRole('heading', { level: 1 }).waitFor();
    await expect.poll(() => page.getByLabel('Loading').count()).toBe(0);
    // Rows are alike, so some stand for all; the dark look has the same elements, so only its colours are judged again.
    const judge = () =>
      new AxeBuilder({ page }).exclude('tbody tr:nth-child(n + 6)').options({ resultTypes: ['violations'] });
    const inLight = await judge().analyze();
    await page.addStyleTag({ content: '* { transition: none !important; }' });
    await page.emulateMedia({ colorScheme: 'dark' });
    const inDark = await judge().withRules(['color-contrast']).analyze();
    const found = [...inLight.violations, ...inDark.violations]
      .filter((v) => v.impact === 'serious' || v.impact === 'critical')
      .map((v) => `${v.id} ${v.nodes[0]?.target.join(' ')} ${v.nodes[0]?.failureSummary}`);
    expect(found).toEqual([]);
  });
});

const newestCopy = async () => {
  const copies = await page.request.get(`${demo.url}/api/v1/copies?limit=1`);
  return ((await copies.json()) as { items: { id: string }[] }).items[0]?.id;
};

test('no page threw an error', () => {
  expect(problems).toEqual([]);
});
