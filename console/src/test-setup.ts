import { configure } from '@testing-library/react';

// What is looked for is waited for; a second, the default, is little on a busy machine.
configure({ asyncUtilTimeout: 30_000 });

// What Mantine asks of a browser and jsdom does not have.
Object.defineProperty(window, 'matchMedia', {
  value: (query: string) => ({
    matches: false,
    media: query,
    addEventListener: () => undefined,
    removeEventListener: () => undefined,
    addListener: () => undefined,
    removeListener: () => undefined,
  }),
});
class NoObserver {
  observe = () => undefined;
  unobserve = () => undefined;
  disconnect = () => undefined;
}
Object.defineProperty(window, 'ResizeObserver', { value: NoObserver });
Object.defineProperty(document, 'fonts', {
  value: { addEventListener: () => undefined, removeEventListener: () => undefined },
});
Element.prototype.scrollIntoView = () => undefined;

// Requests need a whole address outside a browser, and go to whatever a test puts in the service's place.
const Whole = Request;
globalThis.Request = class extends Whole {
  constructor(input: string | URL | Request, init?: RequestInit) {
    super(typeof input === 'string' ? new URL(input, 'http://127.0.0.1') : input, init);
  }
};
const atStart = { answer: (): Promise<Response> => Promise.reject(new TypeError('no service')) };
Object.assign(globalThis, { madeUpService: atStart });
globalThis.fetch = (input) => (atStart.answer as (request: unknown) => Promise<Response>)(input);
