import createClient from 'openapi-fetch';
import type { components, paths } from './schema';

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
    return new Refusal('the service cannot be reached; it may be starting again', 0);
  },
});

/** The data of an answer, or a thrown Refusal with what the service said. */
export async function take<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer;
  if (response.ok) return data as T;
  const problem = error as { detail?: string; mistakes?: Schemas['MistakeAnswer'][] } | undefined;
  throw new Refusal(problem?.detail ?? `the service answered ${response.status}`, response.status, problem?.mistakes);
}
