import type { Schemas } from '../../api/client';
import { Glyph } from '../../ui/Status';

/** The worst outcome of each of the last nights, the newest on the right. */
export function Nights({ nights, of }: { nights: (Schemas['Outcome'] | null)[]; of: string }) {
  const said = nights.map((n) => n ?? 'none').join(', ');
  return (
    <span
      role="img"
      aria-label={`Last nights of ${of}, oldest first: ${said}`}
      title={said}
      style={{ whiteSpace: 'nowrap' }}
    >
      {nights.map((n, i) => (
        <Glyph key={i} state={n} />
      ))}
    </span>
  );
}
