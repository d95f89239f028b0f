/** Every state has a shape of its own, so that it is never told by colour alone. */
const looks: Record<string, { tone: string; shape: React.ReactNode }> = {
  ok: { tone: 'ok', shape: <circle cx="7" cy="7" r="4.2" fill="currentColor" /> },
  sound: { tone: 'ok', shape: <circle cx="7" cy="7" r="4.2" fill="currentColor" /> },
  keep: { tone: 'ok', shape: <circle cx="7" cy="7" r="4.2" fill="currentColor" /> },
  warned: { tone: 'warned', shape: <path d="M7 2.2 12 11.4H2z" fill="currentColor" /> },
  failed: {
    tone: 'failed',
    shape: <path d="M3 3l8 8M11 3l-8 8" stroke="currentColor" strokeWidth="2.6" strokeLinecap="square" />,
  },
  missed: {
    tone: 'missed',
    shape: <path d="M7 2 12 7 7 12 2 7z" fill="none" stroke="currentColor" strokeWidth="2" />,
  },
  refused: { tone: 'failed', shape: <rect x="2" y="5.2" width="10" height="3.6" fill="currentColor" /> },
  cancelled: {
    tone: 'idle',
    shape: <path d="M3.5 10.5l7-7" stroke="currentColor" strokeWidth="2.2" strokeLinecap="square" />,
  },
  'not-needed': { tone: 'idle', shape: <path d="M3 7h8" stroke="currentColor" strokeWidth="1.8" /> },
  unchecked: {
    tone: 'idle',
    shape: <circle cx="7" cy="7" r="3.8" fill="none" stroke="currentColor" strokeWidth="1.6" />,
  },
  uncounted: {
    tone: 'warned',
    shape: <circle cx="7" cy="7" r="3.8" fill="none" stroke="currentColor" strokeWidth="1.6" strokeDasharray="2 2" />,
  },
  expire: {
    tone: 'idle',
    shape: <path d="M2.5 4.5 7 9.5l4.5-5" fill="none" stroke="currentColor" strokeWidth="2.2" />,
  },
  frozen: {
    tone: 'warned',
    shape: <path d="M7 2v10M2.6 4.5l8.8 5M11.4 4.5l-8.8 5" stroke="currentColor" strokeWidth="1.6" />,
  },
  held: {
    tone: 'live',
    shape: <rect x="3" y="3" width="8" height="8" fill="none" stroke="currentColor" strokeWidth="2" />,
  },
  running: {
    tone: 'live',
    shape: (
      <>
        <circle cx="7" cy="7" r="4" fill="none" stroke="currentColor" strokeWidth="1.6" />
        <path d="M7 3a4 4 0 0 1 0 8z" fill="currentColor" />
      </>
    ),
  },
  suspect: {
    tone: 'warned',
    shape: (
      <>
        <path d="M4 4.8a3 3 0 1 1 4.2 2.7C7.2 8 7 8.4 7 9.2" fill="none" stroke="currentColor" strokeWidth="2" />
        <circle cx="7" cy="11.8" r="1.3" fill="currentColor" />
      </>
    ),
  },
  'timed-out': {
    tone: 'failed',
    shape: <path d="M3 2.5h8L7 7zM3 11.5h8L7 7z" fill="currentColor" />,
  },
  'held-back': {
    tone: 'idle',
    shape: <path d="M4.5 2.5v9M9.5 2.5v9" stroke="currentColor" strokeWidth="2.4" />,
  },
  missing: {
    tone: 'missed',
    shape: <path d="M3 3h8v8H3z" fill="none" stroke="currentColor" strokeWidth="1.8" strokeDasharray="2.4 2" />,
  },
  stale: {
    tone: 'failed',
    shape: (
      <>
        <circle cx="7" cy="7" r="4.8" fill="none" stroke="currentColor" strokeWidth="1.7" />
        <path d="M7 4v3.2l2.2 1.4" fill="none" stroke="currentColor" strokeWidth="1.7" />
      </>
    ),
  },
  taken: { tone: 'idle', shape: <circle cx="7" cy="7" r="4.2" fill="currentColor" /> },
  none: { tone: 'idle', shape: <circle cx="7" cy="7" r="1.1" fill="currentColor" opacity="0.6" /> },
};
const alias: Record<string, string> = {
  unsound: 'failed',
  partial: 'warned',
  overdue: 'timed-out',
  silent: 'missed',
  'nearly-full': 'warned',
  'braked-prune': 'held-back',
  untold: 'failed',
  clock: 'stale',
  service: 'failed',
  'sign-ins': 'warned',
  unread: 'failed',
  down: 'failed',
  well: 'ok',
  queued: 'unchecked',
  support: 'held',
  acknowledged: 'not-needed',
  known: 'held-back',
};

const lookOf = (state: string | null) => {
  const name = state ?? 'none';
  return looks[alias[name] ?? name] ?? looks.none;
};

export function Glyph({ state, label }: { state: string | null; label?: string }) {
  const look = lookOf(state);
  return (
    <svg
      className={`glyph tone-${look?.tone}`}
      width="14"
      height="14"
      viewBox="0 0 14 14"
      role={label ? 'img' : undefined}
      aria-label={label}
      aria-hidden={label ? undefined : true}
    >
      {look?.shape}
    </svg>
  );
}

export function Status({ state, children }: { state: string; children?: React.ReactNode }) {
  return (
    <span className={`status tone-${lookOf(state)?.tone}`}>
      <Glyph state={state} />
      <span>{children ?? state}</span>
    </span>
  );
}
