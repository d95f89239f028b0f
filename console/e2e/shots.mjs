// Takes pictures of the running demo's pages: node e2e/shots.mjs FOLDER [--dark] [PATH…]
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { openBrowser, signIn } from './browser.mjs';

const [folder = '.', ...rest] = process.argv.slice(2);
const dark = rest.includes('--dark');
const paths = rest.filter((a) => !a.startsWith('--'));
const demo = process.env.IRONKEEP_DEMO ?? join(import.meta.dirname, '../../.demo');
const { Url, Name, Password } = JSON.parse(readFileSync(join(demo, 'sign-in.json'), 'utf8'));
const browser = await openBrowser(dark);
const page = await browser.newPage();
page.on('console', (m) => m.type() === 'error' && console.error('console:', m.text()));
page.on('pageerror', (e) => console.error('page:', e.message));
await signIn(page, Url, Name, Password);
for (const path of paths.length > 0 ? paths : ['/', '/jobs', '/timetable', '/copies', '/stores', '/settings']) {
  await page.goto(Url + path, { waitUntil: 'load' });
  await page.waitForTimeout(900);
  const name = path === '/' ? 'duty' : path.slice(1).replace(/[^a-z0-9]+/gi, '-');
  await page.screenshot({ path: join(folder, `${name}${dark ? '-dark' : ''}.png`) });
  console.log(path);
}
await browser.close();
