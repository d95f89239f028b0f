// Takes pictures of the running demo: node e2e/shots.mjs FOLDER [PATH…]. Without paths, those that the README shows. SIZE=390x844 in the
// environment takes them at another size.
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { openBrowser, signIn } from './browser.mjs';

const [folder = '.', ...paths] = process.argv.slice(2);
const demo = process.env.IRONKEEP_DEMO ?? join(import.meta.dirname, '../../.demo');
const { Url, Name, Password } = JSON.parse(readFileSync(join(demo, 'sign-in.json'), 'utf8'));
const [width, height] = (process.env.SIZE ?? '1280x800').split('x').map(Number);
const browser = await openBrowser(false, width, height);
const page = await browser.newPage();
page.on('console', (m) => m.type() === 'error' && console.error('console:', m.text()));
page.on('pageerror', (e) => console.error('page:', e.message));
const shot = async (name) => {
  await page.waitForTimeout(700);
  await page.screenshot({ path: join(folder, `${name}.png`) });
  console.log(name);
};
const visit = async (path, name) => {
  await page.goto(Url + path);
  await page.getByRole('heading', { level: 1 }).waitFor();
  for (let i = 0; i < 120 && (await page.getByLabel('Loading').count()) > 0; i++) await page.waitForTimeout(500);
  if (path.startsWith('/settings/job/')) await page.getByText('Charter text').waitFor();
  await shot(name);
};

await page.goto(`${Url}/sign-in`);

await signIn(page, Url, Name, Password);
for (const path of paths) await visit(path, path === '/' ? 'duty' : path.slice(1).replace(/[^a-z0-9]+/gi, '-'));
if (paths.length === 0) {
  for (const [path, name] of [
    ['/', 'duty'],
    ['/jobs', 'jobs'],
    ['/jobs/ringing-register', 'job'],
    ['/timetable', 'timetable'],
    ['/timetable/forecast', 'forecast'],
    ['/media', 'media'],
    ['/stores', 'stores'],
    ['/alerts?state=all', 'alerts'],
    ['/machines', 'machines'],
    ['/settings/job/tide-weather', 'form'],
    ['/jobs/ringing-register/prune', 'prune'],
  ])
    await visit(path, name);
  const get = async (path) => (await page.request.get(`${Url}/api/v1/${path}`)).json();
  const check = (await get('runs?kind=check&limit=1')).items[0];
  await visit(`/runs/${check.id}`, 'run');
  const hurt = (await get('copies?job=hide-cameras')).items.find((c) => c.state === 'unsound');
  await visit(`/copies/${hurt.id}`, 'copy');
  await page.getByText('north-hide').last().click();
  await page.getByRole('row').nth(2).getByRole('checkbox').check();
  await page.getByRole('row').nth(4).getByRole('checkbox').check();
  await page.getByRole('button', { name: 'Restore the chosen' }).click();
  await page.getByLabel(/Restore to this folder/).fill('/srv/restored');
  await shot('restore');
  await page.goto(`${Url}/settings/policy/season`);
  await page.getByRole('slider').focus();
  for (let i = 0; i < 182; i++) await page.keyboard.press('ArrowRight');
  await page.getByText('as if pruned after every success').waitFor();
  await page.waitForTimeout(1500);
  await shot('policy');
  await page.goto(`${Url}/settings/charter`);
  const { yaml } = await get('charter');
  await page.getByLabel('Charter (YAML)').click();
  await page.keyboard.press('Control+a');
  await page.keyboard.insertText(
    yaml.replace('weekdays at 02:30', 'weekdys at 02:30').replace('bin: 3 days', 'bin: 3'),
  );
  await page.getByText('did you mean').first().waitFor();
  await page.getByRole('button', { name: /^line/ }).first().click();
  await shot('charter');
  await page.goto(`${Url}/jobs/ringing-register/compare`);
  await page.getByRole('button', { name: /^Text of/ }).click();
  await page.locator('.cm-changedLine, .cm-insertedLine').first().waitFor();
  await shot('compare');
  const swept = (await get('runs?job=camera-sweep&kind=watched')).items.find((r) => r.outcome === 'warned');
  await page.goto(`${Url}/settings/log-rules/camera-sweep?run=${swept.id}`);
  await page.getByLabel('Runs in the log').waitFor();
  await shot('rules');
}
await browser.close();
