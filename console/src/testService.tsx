import { MantineProvider } from '@mantine/core';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { render } from '@testing-library/react';
import { MemoryRouter, Route, Routes } from 'react-router';

declare const madeUpService: { answer: (request: Request) => Promise<Response> };

export interface Asked {
  method: string;
  path: string;
  query: URLSearchParams;
  body: unknown;
}

/** An answer of the made-up service: what it says, or a function of what it was asked. */
type Says = unknown;
export type Answers = Record<string, Says | ((asked: Asked) => Says)>;

/** A refusal as the service words it. */
export const refused = (status: number, detail: string, more: object = {}) =>
  new Response(JSON.stringify({ status, detail, ...more }), {
    status,
    headers: { 'content-type': 'application/problem+json' },
  });

/** Puts a made-up service in the network's place, by "METHOD /path", and gives the list of what it is asked. */
export function serve(answers: Answers): Asked[] {
  const asked: Asked[] = [];
  const known: Answers = { 'GET session': { name: 'mira', antiforgery: 'abc' }, ...answers };
  madeUpService.answer = async (request) => {
    const url = new URL(request.url);
    const one = {
      method: request.method,
      path: url.pathname.replace('/api/v1/', ''),
      query: url.searchParams,
      body: request.method === 'GET' ? null : (JSON.parse((await request.text()) || 'null') as unknown),
    };
    asked.push(one);
    const said = known[`${one.method} ${one.path}`];
    const answer = typeof said === 'function' ? await (said as (asked: Asked) => Says)(one) : said;
    if (answer instanceof Response) return answer.clone();
    if (answer === undefined) return refused(404, `nothing is at ${one.method} ${one.path}`);
    return new Response(JSON.stringify(answer), { headers: { 'content-type': 'application/json' } });
  };
  return asked;
}

/** Shows one element as the page of a route. */
export const show = (element: React.ReactElement, at = '/', route = '*') =>
  render(
    <MantineProvider env="test">
      <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
        <MemoryRouter initialEntries={[at]}>
          <Routes>
            <Route path={route} element={element} />
          </Routes>
        </MemoryRouter>
      </QueryClientProvider>
    </MantineProvider>,
  );
