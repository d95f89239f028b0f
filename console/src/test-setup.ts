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
Element.prototype.scrollIntoView = () => undefined;
