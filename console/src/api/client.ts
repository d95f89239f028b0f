import createClient from 'openapi-fetch';
import type { components, paths } from './schema';
import { wayOut } from './waysOut';

export type Schemas = components['schemas'];
export type Run = Schemas['RunAnswer'];
export type Job = Schemas['JobAnswer'];
export type Copy = Schemas['CopyAnswer'];
export type Alert = Schemas['AlertAnswer'];
export type Duty = Schemas['DutyAnswer'];
export type PrunePlan = Schemas['PrunePlanAnswer'];
export type Definition = Schemas['DefinitionAnswer'];
export type Preview = Schemas['PreviewAnswer'];
export type Fields = Record<string, string[]>;

/** A refusal or failure of the service: a sentence for the person, and for charters the mistakes. */
export class Refusal extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly mistakes: Schemas['MistakeAnswer'][] = [],
  ) {
    super(message);
  }
}

/** What a refusal carries: see RFC 9457; code and facts where the way out is the client's to word. */
interface Problem {
  detail?: string;
  code?: string;
  facts?: Record<string, string>;
  mistakes?: Schemas['MistakeAnswer'][];
}

export const api = createClient<paths>({ baseUrl: '/' });

let session: Promise<Schemas['SessionAnswer']> | undefined;

/** Who is signed in; asked once, because every changing request needs its antiforgery value. */
export function openSession() {
  session ??= take(api.GET('/api/v1/session')).catch((error: unknown) => {
    session = undefined;
    throw error;
  });
  return session;
}

api.use({
  async onRequest({ request }) {
    if (request.method !== 'GET') request.headers.set('X-Ironkeep-Antiforgery', (await openSession()).antiforgery);
    return request;
  },
  onResponse({ response }) {
    if (response.status === 401) window.location.assign('/sign-in');
    return response;
  },
  onError() {
    return new Refusal('The service cannot be reached; it may be starting again.', 0);
  },
});

/** The data of an answer, or a thrown Refusal with what the service said. */
export async function take<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer;
  if (response.ok) return data as T;
  const problem = error as Problem | undefined;
  const out = wayOut(problem?.code, problem?.facts);
  const said = problem?.detail ?? `The service answered ${response.status}.`;
  throw new Refusal(out ? `${said}. ${out}` : said, response.status, problem?.mistakes);
}
