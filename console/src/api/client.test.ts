import { afterEach, beforeEach, expect, test, vi } from 'vitest';

type Answer = { status: number; body: unknown };
const asked: { method: string; path: string; antiforgery: string | null }[] = [];
let answers: Record<string, Answer>;

beforeEach(() => {
  vi.resetModules();
  asked.length = 0;
  vi.stubGlobal('fetch', async (request: Request) => {
    const path = new URL(request.url).pathname;
    asked.push({ method: request.method, path, antiforgery: request.headers.get('X-Ironkeep-Antiforgery') });
    const { status, body } = answers[path] ?? { status: 500, body: null };
    return new Response(JSON.stringify(body), { status, headers: { 'content-type': 'application/json' } });
  });
  // Requests need a whole address outside a browser.
  vi.stubGlobal(
    'Request',
    class extends Request {
      constructor(input: string | URL | Request, init?: RequestInit) {
        super(typeof input === 'string' ? new URL(input, 'http://127.0.0.1') : input, init);
      }
    },
  );
});

afterEach(() => vi.unstubAllGlobals());

test('changing requests carry the antiforgery value, asked for once, however many come first', async () => {
  answers = {
    '/api/v1/session': { status: 200, body: { antiforgery: 'abc' } },
    '/api/v1/jobs/register/runs': { status: 202, body: { id: 1 } },
    '/api/v1/jobs': { status: 200, body: [] },
  };
  const { api, take } = await import('./client');
  const run = () => take(api.POST('/api/v1/jobs/{name}/runs', { params: { path: { name: 'register' } } }));
  await Promise.all([run(), run(), take(api.GET('/api/v1/jobs'))]);
  expect(asked.filter((a) => a.path === '/api/v1/session')).toHaveLength(1);
  expect(asked.filter((a) => a.method === 'POST').map((a) => a.antiforgery)).toEqual(['abc', 'abc']);
  expect(asked.find((a) => a.path === '/api/v1/jobs')?.antiforgery).toBeNull();
});

test("a refusal carries the service's own sentence and a charter's mistakes", async () => {
  const mistakes = [{ line: 3, column: 5, about: 'job x', message: 'no' }];
  answers = {
    '/api/v1/session': { status: 200, body: { antiforgery: 'abc' } },
    '/api/v1/charter/diff': { status: 400, body: { detail: 'the charter has 1 mistake', mistakes } },
    '/api/v1/duty': { status: 503, body: {} },
  };
  const { api, take, Refusal } = await import('./client');
  const refused = await take(api.POST('/api/v1/charter/diff', { body: { yaml: '' } })).catch((e: unknown) => e);
  expect(refused).toBeInstanceOf(Refusal);
  expect(refused).toMatchObject({ message: 'the charter has 1 mistake', status: 400, mistakes });
  expect(await take(api.GET('/api/v1/duty')).catch((e: unknown) => (e as Error).message)).toBe(
    'The service answered 503.',
  );
});
