import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
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

test('a newcomer is led from nothing to the first restored file', async () => {
  const page = await browser.newPage();
  page.setDefaultTimeout(90_000);
  const file = join(service.folder, 'data/letter.txt');
  writeFileSync(file, 'Dear ringers');
  await page.goto(service.url);
  await page.goto(`${service.url}/first-person`);
  await page.getByLabel(/code/i).fill(service.code);
  await page.getByLabel('Name').fill('mira');
  await page.getByLabel('Password').fill('a long sentence');
  await page.getByRole('button').first().click();
  const save = async () => {
    await page.getByRole('button', { name: 'Save' }).click();
    await page.getByRole('heading', { level: 1, name: 'Settings' }).waitFor();
    await page.getByRole('link', { name: 'Duty' }).click();
  };
  const steps = page.getByRole('region', { name: 'First steps' });

  await steps.getByRole('link', { name: 'Make a store' }).click();
  await page.getByLabel('Name').fill('cellar');
  await page.getByRole('textbox', { name: 'Folder' }).fill(join(service.folder, 'cellar'));
  await page.getByText(/Its file system has .* free/).waitFor();
  await save();

  await steps.getByRole('link', { name: 'Make a policy' }).click();
  await page.getByLabel('Name').fill('season');
  await page.getByLabel('Keep', { exact: true }).fill('newest 3 then 7 daily');
  await page.getByText(/will keep 10 copies/).waitFor();
  await save();

  await steps.getByRole('link', { name: 'Make a job' }).click();
  await page.getByLabel('Name').fill('letters');
  await page.getByRole('textbox', { name: 'What to back up' }).fill(join(service.folder, 'data'));
  await page.getByLabel('Stores', { exact: true }).first().click();
  await page.getByRole('option', { name: 'cellar' }).click();
  await page.keyboard.press('Escape');
  await page.getByLabel('Policy', { exact: true }).first().click();
  await page.getByRole('option', { name: 'season' }).click();
  await page.getByText('1 file, 12 B').waitFor();
  await save();

  await steps.getByRole('button', { name: 'Run letters' }).click();
  await page.getByText('No open alerts').waitFor();
  await page.getByRole('link', { name: 'Copies' }).click();
  // The page before has rows as well.
  await page.getByRole('heading', { level: 1, name: 'Copies' }).waitFor();
  await page.getByRole('row').nth(1).click();
  await page.getByLabel('Choose letter.txt').check();
  await page.getByRole('button', { name: 'Restore the chosen' }).click();
  await page.getByLabel(/Restore to this folder/).fill(join(service.folder, 'back'));
  const dialog = page.getByRole('dialog');
  await dialog.getByRole('button', { name: 'Restore', exact: true }).click();
  await dialog.getByText('1 file (12 B)').waitFor();
  expect(readFileSync(join(service.folder, 'back', file), 'utf8')).toBe('Dear ringers');
});
