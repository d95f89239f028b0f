import { useSearchParams } from 'react-router';

/** The filters of a list, kept in the address so that a view can be sent to a colleague; an empty value takes one out. */
export function useFilters() {
  const [params, setParams] = useSearchParams();
  const set = (key: string, value: string | null) => {
    const next = new URLSearchParams(params);
    if (value) next.set(key, value);
    else next.delete(key);
    setParams(next, { replace: true });
  };
  return [params, set] as const;
}
