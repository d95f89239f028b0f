import { Tooltip } from '@mantine/core';
import { createContext, use, useEffect, useState } from 'react';
import { ago, exact, size } from './format';

/** The charter's zone and the present, which moves every ten seconds for all who show a relative time. */
const Present = createContext({ zone: 'UTC', now: Date.now() });

export function PresentProvider({ zone, children }: { zone: string; children: React.ReactNode }) {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 10_000);
    return () => clearInterval(timer);
  }, []);
  return <Present value={{ zone, now }}>{children}</Present>;
}

export const usePresent = () => use(Present);

/** A relative time, with the exact one on hover. */
export function When({ at, suffix }: { at: string | null | undefined; suffix?: string }) {
  const { zone, now } = usePresent();
  if (!at) return <span className="soft">never</span>;
  return (
    <Tooltip label={exact(at, zone)}>
      <time dateTime={at} style={{ whiteSpace: 'nowrap' }}>
        {ago(at, now)}
        {suffix}
      </time>
    </Tooltip>
  );
}

/** A size for people, with the bytes on hover. */
export function Size({ bytes }: { bytes: number | null | undefined }) {
  if (bytes === null || bytes === undefined) return <span className="soft">–</span>;
  return (
    <Tooltip label={`${bytes.toLocaleString('en')} bytes`}>
      <span style={{ whiteSpace: 'nowrap' }}>{size(bytes)}</span>
    </Tooltip>
  );
}
