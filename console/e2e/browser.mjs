import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { chromium } from 'playwright-core';

/** Debian's Chromium without a monitor and without a network beyond loopback. */
export async function openBrowser(dark = false, width = 1280, height = 800) {
  return chromium.launchPersistentContext(mkdtempSync(join(tmpdir(), 'ironkeep-browser-')), {
    executablePath: process.env.IRONKEEP_CHROMIUM ?? '/usr/bin/chromium',
    headless: true,
    viewport: { width, height },
    colorScheme: dark ? 'dark' : 'light',
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
  });
}

export async function signIn(page, url, name, password) {
  await page.goto(`${url}/sign-in`);
  await page.getByLabel('Name').fill(name);
  await page.getByLabel('Password').fill(password);
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.getByRole('heading', { name: 'Duty' }).waitFor();
}
