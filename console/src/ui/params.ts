import { useSearchParams } from 'react-router';

/** What a page shows, kept in the address. A value of null or "" takes the word out; no step is added to the way back. */
export function useFilters(): [URLSearchParams, (values: Record<string, string | null>) => void] {
  const [params, setParams] = useSearchParams();
  const set = (values: Record<string, string | null>) =>
    setParams(
      (before) => {
        for (const [key, value] of Object.entries(values)) {
          if (value) before.set(key, value);
          else before.delete(key);
        }
        return before;
      },
      { replace: true },
    );
  return [params, set];
}
