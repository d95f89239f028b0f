// What a person gets: `ironkeep job run` and `ironkeep copy restore` through a service that was just started, against the usual tools in the
// same round. Needs `make client daemon`. Arguments: the tree (default /usr/share) and the number of rounds.
import { execFileSync, spawn, spawnSync } from 'node:child_process';
import { chmodSync, existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { randomBytes } from 'node:crypto';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const [tree = '/usr/share', rounds = '3'] = process.argv.slice(2);
const [daemon, client] = [join(root, 'dist/daemon/ironkeepd'), join(root, 'dist/client/ironkeep')];
for (const program of [daemon, client])
  if (!existsSync(program)) throw new Error(`${program} is not there; run 'make client daemon' first`);

const at = mkdtempSync(join(tmpdir(), 'ironkeep-speed-'));
const url = 'http://127.0.0.1:7499';
const env = { ...process.env, XDG_CONFIG_HOME: join(at, 'config') };
const service = spawn(daemon, [`--IronKeep:DataFolder=${at}/data`, `--IronKeep:Listen=${url}`], { stdio: 'ignore' });
const timed = (command) => {
  const began = process.hrtime.bigint();
  const ended = spawnSync('bash', ['-c', `set -o pipefail; ${command}`], { env, stdio: ['ignore', 'ignore', 'pipe'] });
  const took = Number(process.hrtime.bigint() - began) / 1e9;
  // 1 is done with a warning, as where a file of the tree cannot be read.
  if (ended.status > 1) throw new Error(`${command} ended with ${ended.status}: ${ended.stderr}`);
  return took;
};
try {
  const answers = () => fetch(`${url}/health/ready`).then((r) => r.ok, () => false);
  for (let i = 0; !(await answers()) && i < 300; i++) await new Promise((go) => setTimeout(go, 100));
  const code = readFileSync(`${at}/data/first-code`, 'utf8').trim();
  execFileSync(client, ['sign-in', '--url', url, '--name', 'mira', '--code', code, '--password-stdin'], { env, input: 'a long sentence\n', stdio: ['pipe', 'ignore', 'inherit'] });
  mkdirSync(`${at}/keys`);
  writeFileSync(`${at}/keys/k`, randomBytes(32));
  chmodSync(`${at}/keys/k`, 0o600);
  const numbers = Array.from({ length: Number(rounds) }, (_, i) => i + 1);
  writeFileSync(
    `${at}/charter.yaml`,
    ['charter: 1', 'policies:', '  few:', '    keep: newest 5', 'stores:',
      ...numbers.flatMap((n) => [`  s${n}:`, `    folder: ${at}/s${n}`, `    key-file: ${at}/keys/k`]), 'jobs:',
      ...numbers.flatMap((n) => [`  j${n}:`, `    takes: ${tree}`, `    into: s${n}`, '    policy: few']), ''].join('\n'),
  );
  execFileSync(client, ['charter', 'apply', `${at}/charter.yaml`], { env, stdio: ['ignore', 'ignore', 'inherit'] });
  timed(`find ${tree} -type f -print0 | xargs -0 cat`);
  const line = (what, ours, theirs, yardstick) =>
    console.log(`${what.padEnd(14)} ${ours.toFixed(2).padStart(6)} s   ${yardstick.padEnd(26)} ${theirs.toFixed(2).padStart(6)} s   ${(ours / theirs).toFixed(2)}`);
  for (const n of numbers) {
    const tar = timed(`tar cf - ${tree} 2>/dev/null | zstd -q -1 -T2 > ${at}/tar.zst`);
    line('first run', timed(`${client} job run j${n}`), tar, 'tar | zstd -1 -T2');
    const find = timed(`find ${tree} -printf '%p %s %T@ %C@ %m %u %g %i %n %l\n'`);
    line('unchanged run', timed(`${client} job run j${n}`), find, 'find, all attributes');
    mkdirSync(`${at}/back`);
    mkdirSync(`${at}/tarred`);
    const untar = timed(`zstd -q -dc ${at}/tar.zst | tar xf - -C ${at}/tarred`);
    line('restore', timed(`${client} copy restore newest:j${n} --to ${at}/back`), untar, 'zstd -dc | tar x');
    for (const folder of ['back', 'tarred']) rmSync(`${at}/${folder}`, { recursive: true, force: true });
  }
} finally {
  service.kill('SIGKILL');
  rmSync(at, { recursive: true, force: true });
}
