import type { Schemas } from '../../api/client';

type Class = Schemas['Coverage'];

/** The classes with the look and the words of each, those that somebody should look at first. */
export const coverages: { of: Class; look: string; words: string }[] = [
  { of: 'silent', look: 'missed', words: 'silent' },
  { of: 'late', look: 'stale', words: 'late' },
  { of: 'uncovered', look: 'failed', words: 'uncovered' },
  { of: 'excepted', look: 'warned', words: 'excepted only' },
  { of: 'paused', look: 'held-back', words: 'paused' },
  { of: 'covered', look: 'ok', words: 'covered' },
  { of: 'retired', look: 'not-needed', words: 'retired' },
];

export const coverageOf = (of: Class) => coverages.find((c) => c.of === of) ?? { of, look: 'none', words: of };
