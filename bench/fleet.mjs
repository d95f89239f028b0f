// Many machines at once: the service as it is shipped, and a fleet of real agents in one program, all on loopback over TLS.
// `bench/run fleet [MACHINES] [JOBS] [MINUTES] [LOOKED]`: so many machines with so many jobs each, all of them due within so many minutes;
// beside them Duty and the lists are asked for all the while. It ends with the last run, or after so many minutes of looking.
// `bench/run fleet alive [MACHINES] [SECONDS]`: machines that only say that they are
// there. The yardstick is the same page of an idle service. Needs `make daemon`.
import { execFileSync, spawn } from 'node:child_process';
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const alive = process.argv[2] === 'alive';
const [machines = alive ? 5000 : 500, each = alive ? 60 : 4, minutes = 60, looked = minutes + 30] = process.argv.slice(alive ? 3 : 2).map(Number);
const daemon = join(root, 'dist/daemon/ironkeepd');
if (!existsSync(daemon)) throw new Error(`${daemon} is not there; run 'make daemon' first`);
const client = join(root, 'src/IronKeep.Cli/bin/Release/net10.0/ironkeep.dll');
const fleetProgram = join(root, 'demo/IronKeep.Fleet/bin/Release/net10.0/ironkeep-fleet.dll');
const at = mkdtempSync(join(tmpdir(), 'ironkeep-fleet-'));
const port = 7495;
const [url, agents] = ['http://127.0.0.1:7496', `https://127.0.0.1:${port}`];
const env = { ...process.env, XDG_CONFIG_HOME: join(at, 'config') };
const pause = (ms) => new Promise((go) => setTimeout(go, ms));
const name = (i) => `tern-${String(i).padStart(4, '0')}`;

const service = spawn(
  daemon,
  [
    `--IronKeep:DataFolder=${at}/data`,
    `--IronKeep:Listen=${url}`,
    `--IronKeep:AgentListen=${agents}`,
    '--IronKeep:Machine=heron',
    '--IronKeep:RunsAtOnce=16',
  ],
  { stdio: 'ignore' },
);
let fleet;
const cpuOf = (pid) => {
  const words = readFileSync(`/proc/${pid}/stat`, 'utf8').split(') ')[1].split(' ');
  return (Number(words[11]) + Number(words[12])) / 100;
};
const peakOf = (pid) => Number(/VmHWM:\s+(\d+)/.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))[1]) / 1024;
const residentOf = (pid) => Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))[1]) / 1024;
/** How many connections the service holds at its address for agents. */
const connected = () =>
  readFileSync('/proc/net/tcp', 'utf8')
    .split('\n')
    .filter((l) => new RegExp(`^ *\\d+: [0-9A-F]{8}:${port.toString(16).toUpperCase().padStart(4, '0')} \\S+ 01 `).test(l)).length;
const p = (all, share) => [...all].sort((a, b) => a - b)[Math.min(all.length - 1, Math.floor(all.length * share))] ?? 0;
const token = () => {
  const saved = JSON.parse(readFileSync(`${at}/config/ironkeep/client.json`, 'utf8'));
  return saved.Token ?? saved.token;
};
const call = async (path, init = {}) => {
  const answer = await fetch(`${url}/api/v1/${path}`, {
    ...init,
    headers: { authorization: `Bearer ${token()}`, 'content-type': 'application/json', ...init.headers },
  });
  if (!answer.ok) throw new Error(`${path}: ${answer.status} ${await answer.text()}`);
  return answer.status === 204 ? null : answer.json();
};
/** How long each page takes when asked for once after the other (ms). */
const pages = ['duty', 'jobs', 'machines', 'runs?limit=100', 'runs/waiting', 'copies?limit=100'];
const ask = async (into) => {
  for (const page of pages) {
    const began = performance.now();
    await call(page);
    (into[page] ??= []).push(performance.now() - began);
  }
};

try {
  const answers = () => fetch(`${url}/health/ready`).then((r) => r.ok, () => false);
  for (let i = 0; !(await answers()) && i < 300; i++) await pause(100);
  const code = readFileSync(`${at}/data/first-code`, 'utf8').trim();
  execFileSync('dotnet', [client, 'sign-in', '--url', url, '--name', 'mira', '--code', code, '--password-stdin'], {
    env,
    input: 'a long sentence\n',
    stdio: ['pipe', 'ignore', 'inherit'],
  });
  mkdirSync(`${at}/fleet`);
  const charter = (when) =>
    [
      'charter: 1',
      'machines:',
      ...Array.from({ length: machines }, (_, i) => `  ${name(i)}: { site: hides }`),
      `stores: { vault: { folder: ${at}/vault } }`,
      'policies: { few: { keep: newest 5 } }',
      ...(alive
        ? []
        : [
            'jobs:',
            ...Array.from(
              { length: each },
              (_, j) =>
                `  job-${j}: { on: site = hides, takes: "${at}/fleet/data/{machine}", into: vault, policy: few, fresh-within: 2 days, ${when ? `when: "${when}", spread: ${minutes} minutes, ` : ''}start-limit: 2 hours }`,
            ),
          ]),
      '',
    ].join('\n');
  const apply = (when) => {
    writeFileSync(`${at}/charter.yaml`, charter(when));
    execFileSync('dotnet', [client, 'charter', 'apply', `${at}/charter.yaml`, '--confirm'], { env, stdio: ['ignore', 'ignore', 'inherit'] });
  };
  apply('');
  const codes = [];
  const enrol = async (i) => codes.push(`${name(i)} ${(await call(`machines/${name(i)}/enrolment`, { method: 'POST' })).code}`);
  for (let i = 0; i < machines; i += 16)
    await Promise.all(Array.from({ length: Math.min(16, machines - i) }, (_, k) => enrol(i + k)));
  writeFileSync(`${at}/codes`, codes.join('\n'));
  execFileSync('dotnet', [fleetProgram, 'join', agents, '--codes', `${at}/codes`, '--folder', `${at}/fleet`], { stdio: 'inherit' });
  fleet = spawn('dotnet', [fleetProgram, 'work', '--folder', `${at}/fleet`, ...(alive ? ['--alive-only'] : [])], { stdio: 'ignore' });
  const here = async () => (await call('machines')).machines.filter((m) => m.state === 'joined' && !m.away).length;
  for (let i = 0; (await here()) < machines && i < 600; i++) await pause(500);
  for (let i = 0; connected() < 0.99 * machines && i < 600; i++) await pause(1000);
  await pause(60_000);
  if (alive) {
    const [cpu, seconds] = [cpuOf(service.pid), each];
    await pause(seconds * 1000);
    console.log(
      `${machines} machines that only say that they are there: ${((cpuOf(service.pid) - cpu) / seconds).toFixed(3)} cores, ${residentOf(service.pid).toFixed(0)} MB`,
    );
  } else {
    const idle = {};
    for (let i = 0; i < 60; i++) await ask(i < 40 ? {} : idle);
    const idleCpu = cpuOf(service.pid);
    await pause(10_000);
    console.log(`idle with ${machines} agents: ${((cpuOf(service.pid) - idleCpu) / 10).toFixed(3)} cores, ${residentOf(service.pid).toFixed(0)} MB`);
    const due = new Date(Date.now() + 90_000);
    apply(`${due.getUTCMinutes()} ${due.getUTCHours()} ${due.getUTCDate()} ${due.getUTCMonth() + 1} *`);
    const [busy, total] = [{}, machines * each];
    const first = Date.UTC(due.getUTCFullYear(), due.getUTCMonth(), due.getUTCDate(), due.getUTCHours(), due.getUTCMinutes());
    await pause(Math.max(0, first - Date.now()));
    const [cpu, began] = [cpuOf(service.pid), Date.now()];
    let ended = 0;
    while (ended < total && Date.now() - began < looked * 60_000) {
      await ask(busy);
      ended = await count();
      await pause(1500);
    }
    const seconds = (Date.now() - began) / 1000;
    const runs = await all();
    const late = runs.map((r) => (Date.parse(r.began) - Date.parse(r.due)) / 1000);
    const outcomes = {};
    for (const r of runs) outcomes[r.outcome] = (outcomes[r.outcome] ?? 0) + 1;
    console.log(
      `${total} runs of ${machines} machines, due within ${minutes} min: ${runs.length} ended in ${(seconds / 60).toFixed(1)} min; ${JSON.stringify(outcomes)}; ` +
        `service ${((cpuOf(service.pid) - cpu) / seconds).toFixed(2)} cores on average, ${peakOf(service.pid).toFixed(0)} MB at its peak`,
    );
    console.log(`began after due: median ${p(late, 0.5).toFixed(1)} s, 99th percentile ${p(late, 0.99).toFixed(1)} s, most ${p(late, 1).toFixed(1)} s`);
    for (const page of pages)
      console.log(
        `${page.padEnd(18)} ${p(busy[page], 0.5).toFixed(0).padStart(5)} ms, 99th percentile ${p(busy[page], 0.99).toFixed(0).padStart(5)} meanwhile, of ${busy[page].length}; ` +
          `${p(idle[page], 0.5).toFixed(0).padStart(5)} ms idle`,
      );
  }
} finally {
  fleet?.kill('SIGKILL');
  service.kill('SIGKILL');
  await pause(500);
  rmSync(at, { recursive: true, force: true });
}

/** Every backup that was planned. */
async function all() {
  const found = [];
  for (let next = ''; next !== null; ) {
    const page = await call(`runs?kind=backup&state=ended&limit=1000${next ? `&cursor=${next}` : ''}`);
    found.push(...page.items.filter((r) => r.due));
    next = page.next;
  }
  return found;
}

/** How many of them have ended, without reading them all. */
async function count() {
  const waiting = await call('runs/waiting');
  return waiting.count + waiting.atWork === 0 ? (await all()).length : 0;
}
