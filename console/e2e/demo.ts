import { spawn, type ChildProcess } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { built } from './service';

const root = join(import.meta.dirname, '../..');

export interface Demo {
  url: string;
  name: string;
  password: string;
  folder: string;
  stop: () => void;
}

/** The demo's service in a folder of its own, ready when its nights are played. */
export async function startDemo(): Promise<Demo> {
  const folder = mkdtempSync(join(tmpdir(), 'ironkeep-e2e-'));
  const url = `http://127.0.0.1:${30_000 + Math.floor(Math.random() * 9000)}`;
  const service = spawn('dotnet', [
    built('demo/IronKeep.Demo', 'ironkeep-demo'),
    folder,
    join(root, 'demo/saltmere.yaml'),
    '--IronKeep:Listen',
    url,
  ]);
  await ready(service);
  const { Name, Password } = JSON.parse(readFileSync(join(folder, 'sign-in.json'), 'utf8')) as Record<string, string>;
  const stop = () => {
    service.kill('SIGKILL');
    rmSync(folder, { recursive: true, force: true });
  };
  return { url, name: Name ?? '', password: Password ?? '', folder, stop };
}

function ready(service: ChildProcess): Promise<void> {
  return new Promise((resolve, reject) => {
    let said = '';
    service.stdout?.on('data', (data: Buffer) => {
      said += data.toString();
      if (said.includes('Iron Keep is ready')) resolve();
    });
    service.on('exit', (code) => reject(new Error(`the demo ended with ${code}: ${said.slice(-2000)}`)));
  });
}
