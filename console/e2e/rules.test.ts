import type { BrowserContext } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { openBrowser } from './browser.mjs';
import { startEmpty } from './service';

let service: Awaited<ReturnType<typeof startEmpty>>;
let browser: BrowserContext;

beforeAll(async () => {
  service = await startEmpty();
  browser = await openBrowser();
});

afterAll(async () => {
  await browser?.close();
  service?.stop();
});

const log = [
  'copy started',
  'file 7 skipped {odd}',
  '120 files, 4 MB',
  'all [done]',
  'copy started',
  'cannot write /mnt/x',
].join('\n');

test('rules are made of what is selected in a pasted log, tried as they are typed, and kept with an example', async () => {
  const page = await browser.newPage();
  page.setDefaultTimeout(90_000);
  await page.goto(`${service.url}/first-person`);
  await page.getByLabel(/code/i).fill(service.code);
  await page.getByLabel('Name').fill('mira');
  await page.getByLabel('Password').fill('a long sentence');
  await page.getByRole('button').first().click();
  await page.getByRole('link', { name: 'Settings' }).waitFor();
  await page.goto(`${service.url}/settings/log-rules/new`);
  await page.getByLabel('Name').fill('plain');
  const bench = page.getByRole('region', { name: 'Try the rules' });
  await bench.getByRole('textbox', { name: 'Log', exact: true }).fill(log);
  const lines = bench.getByRole('list', { name: 'Lines of the log' });
  const makeRule = async (line: number, means: string) => {
    await lines.locator('li').nth(line).locator('> span').nth(2).selectText();
    await lines.dispatchEvent('mouseup');
    await bench.getByRole('toolbar').getByRole('button', { name: means }).click();
  };
  await makeRule(0, 'begins a run');
  await makeRule(1, 'means nothing');
  await makeRule(3, 'says ok');
  await page.getByLabel('Figures').fill('{items} files, {size}');
  const runs = bench.getByLabel('Runs in the log');
  await runs.getByText('lines 1 to 4').waitFor();
  await runs.getByText('120 items, 4 MB').waitFor();
  await runs.getByText('lines 5 to 6').waitFor();
  await makeRule(5, 'says failed');
  await runs.getByText('reported').waitFor();
  // What is in a line is meant as it stands there, brackets and braces too.
  expect(await page.getByLabel('Ignored').inputValue()).toBe('file 7 skipped \\{odd}');
  expect(await lines.locator('li').nth(2).textContent()).toContain('items = 120');
  expect(await lines.locator('li').nth(1).textContent()).toContain('ignores');

  await bench.getByLabel('Keep this log as an example').fill('a night that broke off');
  await bench.getByRole('button', { name: 'Keep as example' }).click();
  await page.getByText('a night that broke off: failed').waitFor();
  // A change that breaks what the example says is a mistake, and cannot be saved.
  await page.getByLabel('Failed', { exact: true }).fill('something else');
  await page.getByLabel('Ok', { exact: true }).fill('cannot');
  await page
    .getByText(/shall come to failed, and by these rules it is ok/)
    .first()
    .waitFor();
  expect(await page.getByRole('button', { name: 'Save' }).isDisabled()).toBe(true);
  await page.getByLabel('Failed', { exact: true }).fill('cannot write');
  await page.getByLabel('Ok', { exact: true }).fill('all [done]');
  await page.getByRole('button', { name: 'Save' }).click();
  await page.getByRole('heading', { level: 1, name: 'Settings' }).waitFor();
  await page.getByRole('link', { name: 'plain' }).click();
  await page.getByText('a night that broke off: failed (6 lines)').waitFor();
});
