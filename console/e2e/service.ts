import { spawn } from 'node:child_process';
import { existsSync, mkdirSync, mkdtempSync, rmSync, statSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';

const root = join(import.meta.dirname, '../..');

/** The newest build of a program. */
export function built(project: string, program: string): string {
  const all = ['Release', 'Debug']
    .map((c) => join(root, `${project}/bin/${c}/net10.0/${program}.dll`))
    .filter((f) => existsSync(f))
    .sort((a, b) => statSync(b).mtimeMs - statSync(a).mtimeMs);
  if (!all[0]) throw new Error(`${program} is not built; run 'make build'`);
  return all[0];
}

/** A service that knows nobody and nothing, with the code that its first person needs. */
export async function startEmpty() {
  const folder = mkdtempSync(join(tmpdir(), 'ironkeep-empty-'));
  mkdirSync(join(folder, 'data'));
  const url = `http://127.0.0.1:${30_000 + Math.floor(Math.random() * 9000)}`;
  const service = spawn('dotnet', [
    built('src/IronKeep.Service', 'ironkeepd'),
    `--IronKeep:DataFolder=${folder}/service`,
    `--IronKeep:Listen=${url}`,
    '--IronKeep:Machine=heron',
  ]);
  const code = await new Promise<string>((resolve, reject) => {
    let said = '';
    service.stdout.on('data', (data: Buffer) => {
      said += data.toString();
      const found = /one-time code: (\w+)/.exec(said);
      if (found?.[1]) resolve(found[1]);
    });
    service.on('exit', (exit) => reject(new Error(`the service ended with ${exit}: ${said}`)));
  });
  for (;;) {
    // The code is printed before the first request is answered.
    const answer = await fetch(`${url}/health`).catch(() => undefined);
    if (answer?.ok) break;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  const stop = () => {
    service.kill('SIGKILL');
    rmSync(folder, { recursive: true, force: true });
  };
  return { url, code, folder, stop };
}
