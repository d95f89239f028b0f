// Puts faults into the code by hand, one at a time, and asks whether the tests notice: see faults.txt for the table and its form.
// Works in trees of its own (git worktrees below .work/faults), so that nothing here is touched.
import { execFileSync, spawn } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, writeFileSync, appendFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const [pattern = '', jobs = '2'] = process.argv.slice(2);
const out = join(root, '.work/faults');
mkdirSync(out, { recursive: true });

/** The table: blocks of "name", "file", "suite", "filter" (of the suite's tests; may be left out), then what is there (-) and the fault (+). */
function read(text) {
  return text
    .split(/^## /m)
    .slice(1)
    .map((block) => {
      const [name, ...lines] = block.trimEnd().split('\n');
      const field = (key) => lines.find((l) => l.startsWith(`${key}: `))?.slice(key.length + 2);
      const side = (mark) => lines.filter((l) => l.startsWith(mark)).map((l) => l.slice(1)).join('\n');
      return { name, file: field('file'), suite: field('suite'), filter: field('filter'), lives: field('lives'), from: side('-'), to: side('+') };
    });
}

function run(command, args, cwd, minutes) {
  return new Promise((done) => {
    let said = '';
    const child = spawn(command, args, { cwd, detached: true, env: { ...process.env, DOTNET_NOLOGO: '1', DOTNET_CLI_TELEMETRY_OPTOUT: '1' } });
    const limit = setTimeout(() => process.kill(-child.pid, 'SIGKILL'), minutes * 60_000);
    child.stdout.on('data', (d) => (said += d));
    child.stderr.on('data', (d) => (said += d));
    child.on('close', (code, signal) => {
      clearTimeout(limit);
      done({ code, hung: signal === 'SIGKILL', said });
    });
  });
}

const quick = ['-c', 'Release', '-v', 'quiet', '--nologo', '-p:RunAnalyzers=false', '-p:EnforceCodeStyleInBuild=false',
  '-p:OpenApiGenerateDocuments=false', '-p:TreatWarningsAsErrors=false'];

async function tryOne(tree, fault) {
  const path = join(tree, fault.file);
  const original = readFileSync(path, 'utf8');
  const at = original.indexOf(fault.from);
  if (at < 0 || original.indexOf(fault.from, at + 1) >= 0) return { end: at < 0 ? 'NOT FOUND' : 'NOT UNIQUE' };
  writeFileSync(path, original.replace(fault.from, () => fault.to));
  try {
    const project = `tests/IronKeep.${fault.suite}.Tests`;
    const built = await run('dotnet', ['build', project, ...quick], tree, 10);
    if (built.code !== 0) return { end: 'DOES NOT BUILD', said: built.said };
    const filter = fault.filter ? ['--filter', fault.filter.split('|').map((f) => `FullyQualifiedName~${f}`).join('|')] : [];
    const tested = await run('dotnet', ['test', project, '-c', 'Release', '--no-build', '--nologo', ...filter], tree, 15);
    if (/No test matches/.test(tested.said)) return { end: 'NO TEST' };
    const failed = [...tested.said.matchAll(/^ {2}Failed (\S.*?) \[/gm)].map((m) => m[1].replace(/^IronKeep\.\w+\.Tests\./, '').split('(')[0]);
    return tested.code === 0 ? { end: 'survived' } : { end: 'caught', by: tested.hung ? 'a test that hung' : [...new Set(failed)].slice(0, 2).join(', '), said: tested.said };
  } finally {
    writeFileSync(path, original);
  }
}

const wanted = read(readFileSync(join(root, 'bench/faults.txt'), 'utf8')).filter((f) => new RegExp(pattern, 'i').test(`${f.name} ${f.file} ${f.suite}`));
// By suite, so that a tree builds little anew from one fault to the next.
wanted.sort((a, b) => a.suite.localeCompare(b.suite) || a.file.localeCompare(b.file));
const results = [];
const log = join(out, 'last.txt');
writeFileSync(log, '');
async function work(number) {
  const tree = join(out, `tree-${number}`);
  if (existsSync(tree)) execFileSync('git', ['-C', root, 'worktree', 'remove', '--force', tree]);
  execFileSync('git', ['-C', root, 'worktree', 'add', '-f', '--detach', tree, 'HEAD'], { stdio: 'ignore' });
  try {
    for (let fault; (fault = wanted.shift()); ) {
      const found = await tryOne(tree, fault);
      results.push({ ...fault, ...found });
      const line = `${found.end.padEnd(14)} ${fault.name} (${fault.suite})${found.by ? `: ${found.by}` : ''}`;
      console.log(line);
      appendFileSync(log, line + '\n');
      if (found.said && found.end === 'DOES NOT BUILD') appendFileSync(log, found.said.split('\n').filter((l) => /error/.test(l)).slice(0, 2).join('\n') + '\n');
    }
  } finally {
    execFileSync('git', ['-C', root, 'worktree', 'remove', '--force', tree]);
  }
}
await Promise.all(Array.from({ length: Number(jobs) }, (_, i) => work(i)));
const caught = results.filter((r) => r.end === 'caught').length;
const tried = results.filter((r) => r.end === 'caught' || r.end === 'survived').length;
for (const r of results.filter((r) => r.end === 'survived')) console.log(`survived: ${r.name}${r.lives ? ` - it may: ${r.lives}` : ''}`);
for (const r of results.filter((r) => r.end !== 'caught' && r.end !== 'survived')) console.log(`not tried: ${r.name} (${r.end})`);
console.log(`${caught} of ${tried} faults caught (${tried ? Math.round((caught / tried) * 100) : 0} %)`);
