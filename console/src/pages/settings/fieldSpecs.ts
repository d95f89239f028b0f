/** One field of a declared object, as its form shows it. A list has one value a line. */
export interface FieldSpec {
  key: string;
  label: string;
  help?: string;
  example?: string;
  list?: boolean;
  choices?: string[];
  /** Names of objects of this kind are offered. */
  of?: string;
  /** Shown only when asked for: most objects leave it at its default. */
  rare?: boolean;
}

const sentence =
  'daily at 23:00 · weekdays at 22:30 · every 6 hours · last fri of month at 20:00 · day 31 or last of month at 03:00 · 15 2 * * 1-5';

export const fieldSpecs: Record<string, FieldSpec[]> = {
  machine: [
    { key: 'runs-at-once', label: 'Runs at once', help: 'Empty: no ceiling of its own.', example: '2' },
    {
      key: 'importance',
      label: 'Importance',
      help: '1 to 5; where runs wait for each other, 5 goes first.',
      example: '3',
    },
  ],
  calendar: [
    {
      key: 'closed',
      label: 'Closed days',
      list: true,
      help: 'Dates, spans of dates, and days of every year, one a line.',
      example: 'dec 25',
    },
  ],
  'media-group': [
    { key: 'serves', label: 'Serves', help: 'The nights it takes: mon-thu · last fri of month.', example: 'mon-thu' },
    { key: 'media', label: 'Media', list: true, help: 'Labels, one a line.', example: 'disk-1' },
    {
      key: 'protected-for',
      label: 'Protected for',
      help: 'A span after its last write, or always.',
      example: '6 days',
    },
    {
      key: 'fill-window',
      label: 'Fill window',
      help: 'Runs that start so soon after the first may append; usually 12 hours.',
      rare: true,
    },
    { key: 'run-length', label: 'A run lasts', help: 'Usually 3 hours.', rare: true },
  ],
  'rotation-set': [
    { key: 'start', label: 'Start', help: 'When a night’s run begins.', example: '20:00' },
    { key: 'first', label: 'First night', help: 'The media take turns from there.', example: '2026-12-01' },
    {
      key: 'groups',
      label: 'Groups',
      list: true,
      of: 'media-group',
      help: 'In order, one a line; the first that serves a night takes it.',
    },
    { key: 'zone', label: 'Zone', help: 'Empty: the charter’s.', rare: true },
    { key: 'calendar', label: 'Calendar', of: 'calendar', rare: true },
  ],
  store: [
    {
      key: 'folder',
      label: 'Folder',
      help: 'Absolute, made when missing; or sftp://USER@HOST/FOLDER on a server.',
      example: '/srv/keep',
    },
    { key: 'capacity', label: 'Capacity', help: 'What it may hold, with a unit.', example: '4 TB' },
    { key: 'reserve', label: 'Reserve', help: 'What stays free.', example: '200 GB' },
    { key: 'bin', label: 'Bin', help: 'How long expired copies stay restorable.', example: '7 days' },
    { key: 'verify', label: 'Verify', help: `When it is read back: ${sentence}`, example: 'daily at 05:00' },
    {
      key: 'verify-budget',
      label: 'Read at most',
      help: 'In one verification, least recently read first.',
      example: '100 GB',
    },
    { key: 'reclaim', label: 'Reclaim', help: 'When bytes of expired copies are freed.', example: 'sat at 06:00' },
    {
      key: 'key-file',
      label: 'Key file',
      help: 'Holds the key of an encrypted store; set before the store is made.',
      example: '/etc/ironkeep/marsh.key',
    },
    { key: 'passphrase-file', label: 'Passphrase file', help: 'Instead of a key file.', rare: true },
    {
      key: 'verify-within',
      label: 'Verify within',
      help: 'Every byte is verified in this time.',
      example: '30 days',
      rare: true,
    },
    { key: 'hash', label: 'Hash', help: 'blake3, or sha-256 where it must be.', rare: true },
    { key: 'host-key', label: 'Server’s key', help: 'Its fingerprint, SHA256:…', rare: true },
    { key: 'login-key', label: 'Sign-in key', help: 'File with the private key for the server.', rare: true },
    { key: 'upload-at-most', label: 'Upload at most', help: 'Bytes a second.', example: '5 MB', rare: true },
    { key: 'download-at-most', label: 'Download at most', help: 'Bytes a second.', example: '20 MB', rare: true },
    { key: 'runs-at-once', label: 'Runs at once', help: 'Empty: no ceiling of its own.', rare: true },
    { key: 'warn-below', label: 'Nearly full below', help: 'Free room; usually a tenth of all.', rare: true },
  ],
  policy: [
    {
      key: 'keep',
      label: 'Keep',
      help: 'Rungs joined by “then” (each skips what earlier ones keep) or “and”: newest N, N daily, weekly, monthly, yearly, all within N days, forever.',
      example: 'newest 3 then 7 daily then 4 weekly',
    },
    { key: 'at-least', label: 'At least', help: 'So many newest good copies always stay.', example: '2' },
    {
      key: 'promises',
      label: 'Promises',
      list: true,
      help: 'Ages of which there shall be a copy, one a line; the forecast looks.',
      example: '3 months',
    },
    { key: 'zone', label: 'Zone of its periods', help: 'Empty: the charter’s.', example: 'Europe/London', rare: true },
  ],
  channel: [
    { key: 'mail-to', label: 'Mail to', list: true, example: 'crew@example.org' },
    { key: 'mail-from', label: 'Mail from', example: 'ironkeep@example.org' },
    { key: 'server', label: 'Through the SMTP server', example: 'mail.example.org:587' },
    { key: 'security', label: 'Protected by', choices: ['start-tls', 'tls', 'none'] },
    { key: 'user', label: 'User', rare: true },
    { key: 'password-file', label: 'File with the password', example: '/etc/ironkeep/mail.password', rare: true },
    { key: 'pickup', label: 'Or as files in a pickup folder', example: '/var/spool/mail-out' },
    { key: 'webhook', label: 'Or to a webhook', example: 'https://example.org/hooks/keep' },
    { key: 'token-file', label: 'File with the webhook’s token', rare: true },
  ],
  job: [
    { key: 'takes', label: 'Takes', list: true, help: 'Absolute paths, one a line.', example: '/srv/register' },
    { key: 'leaves-out', label: 'Leaves out', list: true, help: 'Patterns as in .gitignore, one a line.' },
    { key: 'leaves-out-caches', label: 'Leaves out caches', help: 'yes: folders tagged as caches.', rare: true },
    {
      key: 'other-file-systems',
      label: 'Other file systems',
      help: 'yes: what is mounted below is taken too.',
      rare: true,
    },
    { key: 'compression', label: 'Compression', help: '1 (fast) to 19 (small).', rare: true },
    { key: 'into', label: 'Into', list: true, of: 'store', help: 'Stores, one a line.' },
    { key: 'when', label: 'When', help: sentence, example: 'weekdays at 23:00' },
    { key: 'policy', label: 'Policy', of: 'policy' },
    {
      key: 'fresh-within',
      label: 'Fresh within',
      help: 'The promised age of the newest good copy.',
      example: '30 hours',
    },
    { key: 'prune', label: 'Prune', choices: ['by-hand', 'after-success'] },
    { key: 'run-limit', label: 'Run limit', help: 'After it a run is ended; empty: only told.', example: '4 hours' },
    { key: 'tells', label: 'Tells', list: true, of: 'channel', help: 'Empty: whom the charter tells.' },
    { key: 'tell-when', label: 'Tell when', choices: ['trouble', 'always'] },
    {
      key: 'after',
      label: 'After',
      of: 'job',
      help: 'Due when that job has succeeded, in place of “when”.',
      rare: true,
    },
    {
      key: 'zone',
      label: 'Zone',
      help: 'Of its schedule; empty: the charter’s.',
      example: 'Europe/London',
      rare: true,
    },
    { key: 'on', label: 'On', of: 'machine', help: 'Empty: the service’s own machine.', rare: true },
    {
      key: 'watched',
      label: 'Watched',
      choices: ['no', 'yes'],
      help: 'Something else carries it out; it checks in.',
      rare: true,
    },
    { key: 'note', label: 'Note', rare: true },
    { key: 'spread', label: 'Spread over', help: 'Jobs due together begin apart.', example: '2 hours', rare: true },
    {
      key: 'quiet-hours',
      label: 'Quiet hours',
      list: true,
      help: 'No run begins in them.',
      example: '08:00 to 18:00 on weekdays',
      rare: true,
    },
    { key: 'when-quiet', label: 'What is due in them', choices: ['shift', 'drop'], rare: true },
    { key: 'calendar', label: 'Calendar', of: 'calendar', help: 'Closed days, and working days.', rare: true },
    { key: 'when-closed', label: 'What is due on closed days', choices: ['shift', 'drop'], rare: true },
    { key: 'importance', label: 'Importance', help: '1 to 5, 5 goes first.', rare: true },
    { key: 'locks', label: 'Locks', list: true, help: 'Only one run at a time has each.', rare: true },
    { key: 'expect-size', label: 'Expected size', help: 'Until runs tell.', example: '40 GB', rare: true },
    { key: 'expect-change', label: 'Expected change a run', example: '500 MB', rare: true },
    { key: 'expect-growth', label: 'Expected growth a day', example: '50 MB', rare: true },
    { key: 'expect-time', label: 'Expected to last', example: '30 minutes', rare: true },
    { key: 'overlap', label: 'While it is still at work', choices: ['skip', 'wait'], rare: true },
    { key: 'catch-up', label: 'Missed runs are made up for', choices: ['once', 'none'], rare: true },
    { key: 'wait-after-return', label: 'Wait after return', example: '10 minutes', rare: true },
    { key: 'catch-up-gap', label: 'Unless due again within', example: '2 hours', rare: true },
    {
      key: 'start-limit',
      label: 'Start limit',
      help: 'Later than this it is missed.',
      example: '30 minutes',
      rare: true,
    },
    { key: 'retries', label: 'Tries again', help: 'For passing causes.', example: '2', rare: true },
    {
      key: 'band',
      label: 'Band',
      help: 'Further off than this a run is suspect.',
      example: '50 % and 100 MB',
      rare: true,
    },
  ],
  settings: [
    { key: 'zone', label: 'Zone', help: 'Of schedules, periods and nights.', example: 'Europe/London' },
    { key: 'tells', label: 'Tells', list: true, of: 'channel', help: 'Who hears of everything else.' },
    { key: 'duty-mail', label: 'Duty mail', help: 'Sent even when all is well.', example: 'daily at 07:30' },
    { key: 'runs-at-once', label: 'Runs at once', help: 'Over all machines and stores.', example: '4' },
  ],
};

export const kinds = ['job', 'store', 'policy', 'channel', 'machine', 'calendar', 'rotation-set', 'media-group'];

/** A kind as people read it. */
export const words = (kind: string) => kind.replace('-', ' ');
