// What it costs that a copy is made on another machine: real service and real agent on loopback, TLS on, beside the same run inside the
// service; over a narrow line that breaks; and what the service spends to receive. Needs `make client daemon agent`. Arguments: the tree
// (default /usr/share), how many files the unchanged run has (default 1000000), and the seconds that the narrow line is kept full.
import { execFileSync, spawn, spawnSync } from 'node:child_process';
import { chmodSync, existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { randomBytes } from 'node:crypto';
import { availableParallelism, tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Relay } from './relay.mjs';

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const [tree = '/usr/share', many = '1000000', full = '75'] = process.argv.slice(2);
const programs = { daemon: 'dist/daemon/ironkeepd', client: 'dist/client/ironkeep', agent: 'dist/agent/ironkeep-agent' };
for (const [name, path] of Object.entries(programs)) {
  programs[name] = join(root, path);
  if (!existsSync(programs[name])) throw new Error(`${programs[name]} is not there; run 'make client daemon agent' first`);
}
const narrow = 20e6 / 8;
const at = mkdtempSync(join(tmpdir(), 'ironkeep-agent-speed-'));
const [url, agents] = ['http://127.0.0.1:7498', 'https://127.0.0.1:7497'];
const env = { ...process.env, XDG_CONFIG_HOME: join(at, 'config') };
const pause = (ms) => new Promise((go) => setTimeout(go, ms));
const service = spawn(
  programs.daemon,
  [`--IronKeep:DataFolder=${at}/data`, `--IronKeep:Listen=${url}`, `--IronKeep:AgentListen=${agents}`, '--IronKeep:Machine=heron'],
  { stdio: 'ignore' },
);
const run = (command) => {
  const ended = spawnSync('bash', ['-c', `set -o pipefail; ${command}`], { env, stdio: ['ignore', 'ignore', 'pipe'] });
  if (ended.status > 1) throw new Error(`${command} ended with ${ended.status}: ${ended.stderr}`);
};
const client = (...words) => execFileSync(programs.client, words, { env, stdio: ['ignore', 'pipe', 'inherit'] }).toString();
/** Seconds of processor time that a process has used. */
const cpuOf = (pid) => {
  const words = readFileSync(`/proc/${pid}/stat`, 'utf8').split(') ')[1].split(' ');
  return (Number(words[11]) + Number(words[12])) / 100;
};
const peakOf = (pid) => Number(/VmHWM:\s+(\d+)/.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))[1]) / 1024;

let agent;
const startAgent = (address) => {
  const file = `${at}/agent/service.json`;
  writeFileSync(file, JSON.stringify({ ...JSON.parse(readFileSync(file, 'utf8')), address }));
  agent = spawn(programs.agent, ['work', '--folder', `${at}/agent`], { stdio: 'ignore' });
};
const stopAgent = async () => {
  const gone = new Promise((go) => agent.once('exit', go));
  agent.kill('SIGTERM');
  await gone;
};
/** Runs a job; nothing here may block, as the relay runs in this very process. */
const job = async (name) => {
  const cpu = cpuOf(service.pid);
  const answer = await new Promise((go, fail) => {
    const child = spawn(programs.client, ['job', 'run', name, '--output', 'json'], { env, stdio: ['ignore', 'pipe', 'inherit'] });
    let text = '';
    child.stdout.on('data', (part) => (text += part));
    child.on('exit', (code) => (code > 1 ? fail(new Error(`${name} ended with ${code}: ${text}`)) : go(JSON.parse(text))));
  });
  const f = answer.figures;
  return { seconds: f.elapsedSeconds, items: f.items, read: f.readBytes, stored: f.storedBytes, cpu: cpuOf(service.pid) - cpu };
};
const say = (what, ours, yardstick, theirs, more = '') =>
  console.log(
    `${what.padEnd(34)} ${ours.toFixed(2).padStart(8)} s   ${yardstick.padEnd(30)} ${theirs.toFixed(2).padStart(8)} s   ${(ours / theirs).toFixed(2)}   ${more}`,
  );

try {
  const answers = () => fetch(`${url}/health/ready`).then((r) => r.ok, () => false);
  for (let i = 0; !(await answers()) && i < 300; i++) await pause(100);
  const code = readFileSync(`${at}/data/first-code`, 'utf8').trim();
  execFileSync(programs.client, ['sign-in', '--url', url, '--name', 'mira', '--code', code, '--password-stdin'], {
    env,
    input: 'a long sentence\n',
    stdio: ['pipe', 'ignore', 'inherit'],
  });
  mkdirSync(`${at}/keys`);
  writeFileSync(`${at}/keys/k`, randomBytes(32));
  chmodSync(`${at}/keys/k`, 0o600);
  mkdirSync(`${at}/random`);
  run(`cd ${at}/random && for d in $(seq 1 30); do mkdir $d; done && head -c ${Math.round(narrow * Number(full))} /dev/urandom | split -b 64k -a 4 - f && for f in f*; do mv $f $((RANDOM % 30 + 1)); done`);
  // Folders of a thousand files, as a mail store or a cache has them.
  mkdirSync(`${at}/many`);
  run(`cd ${at}/many && seq 1 ${many} | awk '{ d = int($1 / 1000); if (d != last || !begun) { system("mkdir -p " d); last = d; begun = 1 } print $1 > (d "/" $1); close(d "/" $1) }'`);
  const takes = { tree, many: `${at}/many`, random: `${at}/random`, broken: `${at}/random` };
  const names = Object.keys(takes).flatMap((t) => [`${t}-here`, `${t}-there`]);
  writeFileSync(
    `${at}/charter.yaml`,
    ['charter: 1', 'machines:', '  curlew: {}', 'policies:', '  few:', '    keep: newest 5', 'stores:',
      ...names.flatMap((n) => [`  s-${n}:`, `    folder: ${at}/s-${n}`, `    key-file: ${at}/keys/k`]), 'jobs:',
      ...names.flatMap((n) => [`  ${n}:`, `    takes: ${takes[n.split('-')[0]]}`, `    into: s-${n}`, '    policy: few', ...(n.endsWith('-there') ? ['    on: curlew'] : [])]), ''].join('\n'),
  );
  client('charter', 'apply', `${at}/charter.yaml`);
  const words = client('machine', 'enrol', 'curlew').split(/\s+/);
  execFileSync(programs.agent, ['join', agents, '--code', words.find((w) => w.startsWith('join.')), '--folder', `${at}/agent`], { stdio: 'ignore' });
  run(`find ${tree} -type f -print0 | xargs -0 cat`);

  startAgent(agents);
  await pause(2000);
  const perGb = [];
  for (let round = 0; round < 3; round++) {
    // Stores of their own each round would be another first run; the service's own first run is not what is measured.
    if (round > 0) {
      const again = (n) => `s-${n}-${round}`;
      const text = readFileSync(`${at}/charter.yaml`, 'utf8')
        .replaceAll(/s-tree-(here|there)(-\d)?(?=[:\n])/g, (_, w) => again(`tree-${w}`));
      writeFileSync(`${at}/charter.yaml`, text);
      client('charter', 'apply', `${at}/charter.yaml`, '--confirm');
    }
    const here = await job('tree-here');
    const there = await job('tree-there');
    perGb.push({ cpu: there.cpu, bytes: there.stored });
    say('first run of the tree, by an agent', there.seconds, 'inside the service', here.seconds,
      `throughput ${(here.seconds / there.seconds).toFixed(2)}; service ${there.cpu.toFixed(1)} CPU s for ${(there.stored / 1e6).toFixed(0)} MB received; agent's peak ${peakOf(agent.pid).toFixed(0)} MiB`);
  }
  // Each side with one processor of its own, as two machines have; above they share them.
  const pin = (process, cores) => execFileSync('taskset', ['-apc', cores, String(process.pid)], { stdio: 'ignore' });
  if (availableParallelism() > 1) {
    const text = readFileSync(`${at}/charter.yaml`, 'utf8').replaceAll(/s-tree-(here|there)(-\d)?(?=[:\n])/g, (_, w) => `s-tree-${w}-apart`);
    writeFileSync(`${at}/charter.yaml`, text);
    client('charter', 'apply', `${at}/charter.yaml`, '--confirm');
    pin(service, '1');
    pin(agent, '0');
    const here = await job('tree-here');
    const there = await job('tree-there');
    say('with a processor for each', there.seconds, 'inside, with one processor', here.seconds, `throughput ${(here.seconds / there.seconds).toFixed(2)}`);
    pin(service, `0-${availableParallelism() - 1}`);
    pin(agent, `0-${availableParallelism() - 1}`);
  }
  await job('many-here');
  const first = await job('many-there');
  console.log(`${first.items} files, first run by an agent: ${first.seconds.toFixed(1)} s, agent's peak ${peakOf(agent.pid).toFixed(0)} MiB`);
  for (let round = 0; round < 3; round++) {
    const here = await job('many-here');
    const there = await job('many-there');
    say('unchanged run, by an agent', there.seconds, 'inside the service', here.seconds);
  }
  await stopAgent();

  // The same once more through a relay that counts.
  const counting = await Relay.open(7496, 7497, {});
  startAgent('https://127.0.0.1:7496');
  await pause(2000);
  counting.reset();
  await job('many-there');
  console.log(`unchanged run: ${(counting.up / 1e6).toFixed(3)} MB up and ${(counting.down / 1e6).toFixed(3)} MB down travelled (asked: under 1 MB)`);
  await stopAgent();
  await counting.close();

  for (const [what, name, breaks] of [['20 Mbit/s, 80 ms', 'random-there', 0], ['the same, broken every 30 s', 'broken-there', 30]]) {
    const relay = await Relay.open(7496, 7497, { perSecond: narrow, delay: 40, breaksEvery: breaks * 1000 });
    startAgent('https://127.0.0.1:7496');
    await pause(3000);
    relay.reset();
    const there = await job(name);
    say(what, there.seconds, 'bytes to send at 20 Mbit/s', there.stored / narrow, `${(relay.up / 1e6).toFixed(1)} MB travelled for ${(there.stored / 1e6).toFixed(1)} MB; broken ${relay.breaks} times`);
    await stopAgent();
    await relay.close();
  }

  // Plain receiving of as many bytes over TLS into a file.
  run(`openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout ${at}/tls.key -out ${at}/tls.crt -days 2 -subj /CN=bench`);
  const bytes = perGb[0].bytes;
  run(`head -c ${bytes} /dev/urandom > ${at}/sent`);
  for (const { cpu, bytes: received } of perGb) {
    const receiver = spawn('bash', ['-c', `exec openssl s_server -quiet -accept 7495 -naccept 1 -cert ${at}/tls.crt -key ${at}/tls.key > ${at}/received`], { stdio: ['pipe', 'ignore', 'ignore'] });
    await pause(500);
    const sender = spawn('bash', ['-c', `openssl s_client -quiet -connect 127.0.0.1:7495 < ${at}/sent`], { stdio: 'ignore' });
    const plain = await new Promise((go) => {
      const look = setInterval(() => {
        if (existsSync(`${at}/received`) && Number(execFileSync('stat', ['-c', '%s', `${at}/received`])) >= bytes) {
          clearInterval(look);
          go(cpuOf(receiver.pid));
        }
      }, 50);
    });
    receiver.kill('SIGKILL');
    sender.kill('SIGKILL');
    const [ours, theirs] = [cpu / (received / 1e9), plain / (bytes / 1e9)];
    say("service's CPU per GB received", ours, 'plain TLS to a file', theirs);
  }
} finally {
  agent?.kill('SIGKILL');
  service.kill('SIGKILL');
  rmSync(at, { recursive: true, force: true });
}
