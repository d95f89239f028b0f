import type { Alert } from '../../api/client';

/** What is at stake, in words; the gravest first. */
export const stakes: Record<Alert['severity'], string> = {
  danger: 'a copy is in danger',
  'broken-promise': 'a promise is broken',
  failure: 'something failed',
  notice: 'for your notice',
};

/** Whether it is said beside the class: the class alone says the rest. */
export const isGrave = (a: Alert) =>
  (a.severity === 'danger' && a.class !== 'unsound') || (a.severity === 'broken-promise' && a.class !== 'stale');
