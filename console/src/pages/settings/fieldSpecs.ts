import { deskSpecs } from './deskSpecs';
import { peopleSpecs, tags } from './peopleSpecs';

/** One field of a declared object as its form words it. What it takes (a list, names of objects, a few words) is the charter's language. */
export interface FieldSpec {
  key: string;
  label: string;
  help?: string;
  example?: string;
  /** Each value has lines of its own, and is not written here. */
  whole?: boolean;
  /** Folders of the service's machine, which can be looked for. */
  folder?: boolean;
  /** Often longer than a line. */
  long?: boolean;
  /** A time zone. */
  zone?: boolean;
  /** Shown only when asked for: most objects leave it at its default. */
  rare?: boolean;
}

const schedule =
  'Such as “daily at 23:00”, “weekdays at 22:30”, “every 6 hours”, “last fri of month at 20:00”, or a crontab line.';

/** How an SSH server is known, and how the service signs in to it. */
const serverKeys: FieldSpec[] = [
  {
    key: 'host-key',
    label: 'Server key',
    help: 'The fingerprint of the server’s host key, beginning with SHA256.',
    rare: true,
  },
  {
    key: 'login-key',
    label: 'Login key',
    help: 'The file with the private key that signs in to the server.',
    rare: true,
  },
];

export const fieldSpecs: Record<string, FieldSpec[]> = {
  ...peopleSpecs,
  machine: [
    {
      key: 'runs-at-once',
      label: 'Runs at once',
      help: 'How many runs may be at work on it together. Empty: no limit of its own.',
      example: '2',
    },
    {
      key: 'importance',
      label: 'Importance',
      help: 'From 1 to 5. When runs wait for each other, 5 goes first.',
      example: '3',
    },
    tags('the machine with its jobs'),
    { key: 'site', label: 'Site', help: 'Where it stands, for reports.', example: 'lighthouse', rare: true },
    { key: 'owner', label: 'Owner', help: 'Whose it is, for reports.', example: 'ringing-group', rare: true },
    {
      key: 'line',
      label: 'Line',
      help: 'How much of its line copies may take, one per line; the least that applies holds.',
      example: '2 MB/s from 08:00 to 18:00 on weekdays',
      rare: true,
    },
    {
      key: 'silent-after',
      label: 'Silent after',
      help: 'Not heard of for so long, its silence is told. One day when empty.',
      example: '4 hours',
      rare: true,
    },
    {
      key: 'read-over',
      label: 'Read over SFTP',
      help: 'The server by which the service reads this machine itself, without an agent.',
      example: 'sftp://keeper@tern.saltmere.example',
      rare: true,
    },
    ...serverKeys,
  ],
  calendar: [
    {
      key: 'closed',
      label: 'Closed days',
      help: 'One per line: a date, a span of dates, or a day of every year.',
      example: 'dec 25',
    },
  ],
  'media-group': [
    {
      key: 'serves',
      label: 'Nights',
      help: 'The nights that this group takes, such as “mon-thu” or “last fri of month”.',
      example: 'mon-thu',
    },
    { key: 'media', label: 'Media', help: 'The labels of its media, one per line.', example: 'disk-1' },
    {
      key: 'protected-for',
      label: 'Protected for',
      help: 'How long after its last write a medium must not be overwritten: a span, or “always”.',
      example: '6 days',
    },
    {
      key: 'fill-window',
      label: 'Fill window',
      help: 'For how long after the first run more runs may be added to the same medium. Usually 12 hours.',
      rare: true,
    },
    { key: 'run-length', label: 'Length of a run', help: 'Usually 3 hours.', rare: true },
  ],
  'rotation-set': [
    { key: 'start', label: 'Start', help: 'The time at which a night’s run begins.', example: '20:00' },
    { key: 'first', label: 'First night', help: 'The media take turns from this date on.', example: '2026-12-01' },
    { key: 'groups', label: 'Media groups', help: 'In order: the first one that serves a night takes it.' },
    { key: 'zone', label: 'Time zone', help: 'Empty: the charter’s.', zone: true, rare: true },
    { key: 'calendar', label: 'Calendar', rare: true },
  ],
  store: [
    {
      key: 'folder',
      label: 'Folder',
      help: 'An absolute path, made if it is missing, or sftp://USER@HOST/FOLDER on a server.',
      example: '/srv/keep',
      folder: true,
    },
    {
      key: 'layout',
      label: 'Layout',
      help: 'Choose dated-files for a folder into which something else writes the copies.',
      rare: true,
    },
    {
      key: 'name',
      label: 'File names',
      help: 'How the files are named below the folder, with {yyyy} {MM} {dd} {HH} {mm} {ss} {job} {machine} {kind} and *.',
      example: '{job}-{yyyy}-{MM}-{dd}.sql.gz',
      rare: true,
    },
    {
      key: 'kinds',
      label: 'Kinds',
      help: 'One per line: a kind and the word that stands for it in a name.',
      example: 'full F',
      rare: true,
    },
    {
      key: 'settled-after',
      label: 'Settled after',
      help: 'A file that has not changed for this long is complete.',
      example: '2 minutes',
      rare: true,
    },
    {
      key: 'zone',
      label: 'Time zone',
      help: 'Of the times in file names. Empty: the charter’s.',
      zone: true,
      rare: true,
    },
    { key: 'capacity', label: 'Capacity', help: 'The most it may hold. Empty: as much as its disk.', example: '4 TB' },
    {
      key: 'reserve',
      label: 'Reserve',
      help: 'Room that runs must leave free: a size, or a share such as 10 %.',
      example: '200 GB',
    },
    { key: 'bin', label: 'Bin', help: 'How long an expired copy can still be restored.', example: '7 days' },
    {
      key: 'verify',
      label: 'Verify',
      help: `When its bytes are read back and checked. ${schedule}`,
      example: 'daily at 05:00',
    },
    {
      key: 'verify-budget',
      label: 'Verify at most',
      help: 'How much one verification reads. What was checked longest ago comes first.',
      example: '100 GB',
    },
    { key: 'reclaim', label: 'Reclaim', help: 'When the space of expired copies is freed.', example: 'sat at 06:00' },
    {
      key: 'key-file',
      label: 'Key file',
      help: 'The file with the key that encrypts the store. It must be set before the store is first used.',
      example: '/etc/ironkeep/marsh.key',
    },
    { key: 'passphrase-file', label: 'Passphrase file', help: 'In place of a key file.', rare: true },
    {
      key: 'verify-within',
      label: 'Verify everything within',
      help: 'Every byte is checked at least once in this time.',
      example: '30 days',
      rare: true,
    },
    {
      key: 'hash',
      label: 'Hash',
      help: 'The hash function, fixed once the store exists. Choose sha-256 only where rules demand it.',
      rare: true,
    },
    ...serverKeys,
    { key: 'upload-at-most', label: 'Upload limit', help: 'Bytes per second.', example: '5 MB', rare: true },
    { key: 'download-at-most', label: 'Download limit', help: 'Bytes per second.', example: '20 MB', rare: true },
    { key: 'runs-at-once', label: 'Runs at once', help: 'Empty: no limit of its own.', rare: true },
    {
      key: 'warn-below',
      label: 'Warn below',
      help: 'Alerts when less room than this is free. Usually a tenth of all.',
      rare: true,
    },
  ],
  policy: [
    {
      key: 'keep',
      label: 'Keep',
      help: 'Rules joined by “then” (each skips what earlier ones keep) or “and”: newest N, N daily, N weekly, N monthly, N yearly, all within N days, forever.',
      example: 'newest 3 then 7 daily then 4 weekly',
    },
    { key: 'at-least', label: 'At least', help: 'This many of the newest good copies are always kept.', example: '2' },
    {
      key: 'promises',
      label: 'Promises',
      help: 'One per line: an age for which there shall always be a copy. The forecast warns if the rules break it.',
      example: '3 months',
    },
    {
      key: 'zone',
      label: 'Time zone',
      help: 'In which days, weeks and months begin. Empty: the charter’s.',
      example: 'Europe/London',
      zone: true,
      rare: true,
    },
  ],
  channel: [
    { key: 'mail-to', label: 'Mail to', help: 'Addresses, one per line.', example: 'crew@example.org' },
    { key: 'mail-from', label: 'Mail from', example: 'ironkeep@example.org' },
    { key: 'server', label: 'SMTP server', example: 'mail.example.org:587' },
    { key: 'security', label: 'Encryption', help: 'Of the connection to the SMTP server. Usually start-tls.' },
    { key: 'user', label: 'User', rare: true },
    {
      key: 'password-file',
      label: 'Password file',
      help: 'The file with the password for the SMTP server.',
      example: '/etc/ironkeep/mail.password',
      rare: true,
    },
    {
      key: 'pickup',
      label: 'Pickup folder',
      help: 'In place of an SMTP server: mails are written as files into this folder.',
      example: '/var/spool/mail-out',
      folder: true,
    },
    {
      key: 'webhook',
      label: 'Webhook',
      help: 'In place of mail: the address that is called.',
      example: 'https://example.org/hooks/keep',
    },
    {
      key: 'webhook-file',
      label: 'Webhook file',
      help: 'The file with the webhook’s address, if the address is secret.',
      rare: true,
    },
    {
      key: 'token-file',
      label: 'Token file',
      help: 'The file with the token that is sent to the webhook or the ticket desk.',
      rare: true,
    },
    {
      key: 'sign-file',
      label: 'Signing secret file',
      help: 'The file with the secret that the webhook’s receiver shares. Every message is signed with it.',
      rare: true,
    },
    {
      key: 'syslog',
      label: 'Syslog',
      help: 'In place of mail: a receiver of syslog.',
      example: 'udp://loghost:514',
    },
    {
      key: 'command',
      label: 'Command',
      help: 'In place of mail: a command in the service’s folder for commands and its arguments, one per line. {subject} and {text} stand for what is told.',
      example: 'page',
    },
    {
      key: 'command-seconds',
      label: 'Command ends after',
      help: 'In seconds. Usually 30.',
      rare: true,
    },
    ...deskSpecs,
  ],
  job: [
    {
      key: 'takes',
      label: 'What to back up',
      help: 'Absolute paths, one per line.',
      example: '/srv/register',
      folder: true,
    },
    { key: 'leaves-out', label: 'Leave out', help: 'Patterns as in a .gitignore file, one per line.' },
    {
      key: 'leaves-out-caches',
      label: 'Leave out caches',
      help: 'Skips folders that are tagged as caches.',
      rare: true,
    },
    {
      key: 'other-file-systems',
      label: 'Other file systems',
      help: 'Takes what is mounted below the paths as well.',
      rare: true,
    },
    { key: 'compression', label: 'Compression', help: 'From 1 (fast) to 19 (small).', rare: true },
    { key: 'into', label: 'Stores', help: 'Every run writes a copy to each.' },
    { key: 'when', label: 'When', help: schedule, example: 'weekdays at 23:00' },
    { key: 'policy', label: 'Policy', help: 'How long its copies are kept.' },
    {
      key: 'fresh-within',
      label: 'Fresh within',
      help: 'The newest good copy must never be older than this.',
      example: '30 hours',
    },
    { key: 'prune', label: 'Prune', help: 'Usually by hand.' },
    {
      key: 'run-limit',
      label: 'Run limit',
      help: 'A run that takes longer is stopped. Empty: it only raises an alert.',
      example: '4 hours',
    },
    {
      key: 'tells',
      label: 'Tells',
      help: 'The people, rotas and channels that are told about its runs. Empty: whom routes or the charter’s settings name.',
    },
    tags('the job'),
    { key: 'tell-when', label: 'Tell', help: 'Usually of trouble only.' },
    {
      key: 'severity',
      label: 'Severity of its alerts',
      help: 'Empty: by what is at stake, such as a broken promise or a copy in danger.',
      rare: true,
    },
    { key: 'after', label: 'After', help: 'In place of a schedule: runs whenever that job has succeeded.', rare: true },
    {
      key: 'zone',
      label: 'Time zone',
      help: 'Of its schedule. Empty: the charter’s.',
      example: 'Europe/London',
      zone: true,
      rare: true,
    },
    { key: 'on', label: 'Machine', help: 'Empty: the service’s own.', rare: true },
    {
      key: 'watched',
      label: 'Watched',
      help: 'Something else carries it out; the service listens for it.',
      rare: true,
    },
    {
      key: 'heard-by',
      label: 'Heard by',
      help: 'How the service learns of its runs. Usually by check-ins.',
      rare: true,
    },
    {
      key: 'log',
      label: 'Log files',
      help: 'One per line; * and ? may stand in the name.',
      example: '/var/log/send.log',
      rare: true,
    },
    {
      key: 'syslog',
      label: 'Programs in syslog',
      help: 'One per line: a program’s name, or name@host.',
      example: 'send@avocet',
      rare: true,
    },
    {
      key: 'syslog-text',
      label: 'Syslog lines',
      help: 'Patterns, one per line, of which one must match. Empty: every line counts.',
      rare: true,
    },
    { key: 'log-rules', label: 'Log rules', help: 'What its log lines and exit codes mean.', rare: true },
    { key: 'leaves-copy-in', label: 'Leaves its copy in', help: 'A store with the layout dated-files.', rare: true },
    {
      key: 'early',
      label: 'Copy may be early by',
      help: 'How long before it is due its copy may be taken.',
      example: '1 hour',
      rare: true,
    },
    { key: 'note', label: 'Note', rare: true },
    {
      key: 'spread',
      label: 'Spread over',
      help: 'Jobs that are due together start at different times within this span.',
      example: '2 hours',
      rare: true,
    },
    {
      key: 'quiet-hours',
      label: 'Quiet hours',
      help: 'One per line. No run starts in them.',
      example: '08:00 to 18:00 on weekdays',
      rare: true,
    },
    { key: 'when-quiet', label: 'Due in quiet hours', help: 'Shift it to their end, or drop it.', rare: true },
    { key: 'calendar', label: 'Calendar', help: 'Its closed days.', rare: true },
    { key: 'when-closed', label: 'Due on closed days', help: 'Shift it to the next open day, or drop it.', rare: true },
    {
      key: 'importance',
      label: 'Importance',
      help: 'From 1 to 5. When runs wait for each other, 5 goes first.',
      rare: true,
    },
    { key: 'locks', label: 'Locks', help: 'Names, one per line. Only one run at a time holds each.', rare: true },
    {
      key: 'needs',
      label: 'Needs',
      help: 'How the machine must stand before the job begins by itself, one per line.',
      example: 'mains power',
      rare: true,
    },
    {
      key: 'expect-size',
      label: 'Expected size',
      help: 'For the forecast, until there are runs to go by.',
      example: '40 GB',
      rare: true,
    },
    { key: 'expect-change', label: 'Expected change per run', example: '500 MB', rare: true },
    { key: 'expect-growth', label: 'Expected growth per day', example: '50 MB', rare: true },
    { key: 'expect-time', label: 'Expected duration', example: '30 minutes', rare: true },
    {
      key: 'overlap',
      label: 'If still running',
      help: 'When a run is due while the last one is at work: skip it, or wait.',
      rare: true,
    },
    { key: 'catch-up', label: 'Missed runs', help: 'Made up for once, or not at all.', rare: true },
    {
      key: 'wait-after-return',
      label: 'Wait after return',
      help: 'How long after a machine came back missed runs start.',
      example: '10 minutes',
      rare: true,
    },
    {
      key: 'catch-up-gap',
      label: 'Unless due within',
      help: 'A missed run is not made up for if the next is due this soon.',
      example: '2 hours',
      rare: true,
    },
    {
      key: 'start-limit',
      label: 'Start limit',
      help: 'A run that starts later than this counts as missed.',
      example: '30 minutes',
      rare: true,
    },
    {
      key: 'still-at',
      label: 'Held still at',
      help: 'Where a step before makes a snapshot of what is taken, one per line.',
      example: '/srv at /run/ironkeep/still',
      rare: true,
    },
    {
      key: 'watches-service',
      label: 'Watches service',
      help: 'The step that says whether the service is up that the job stops.',
      rare: true,
    },
    {
      key: 'starts-service',
      label: 'Starts service',
      help: 'The step that starts it again when it is down.',
      rare: true,
    },
    {
      key: 'starts-at-most',
      label: 'Starts at most',
      help: 'How often within how long.',
      example: '3 in 1 hour',
      rare: true,
    },
    { key: 'streams', label: 'Streams', help: 'Steps whose output is taken, each as a file.', rare: true },
    { key: 'before', label: 'Before', help: 'Steps that run before the copy, in order.', rare: true },
    { key: 'until', label: 'Until', help: 'A step that must succeed before the copy begins.', rare: true },
    {
      key: 'patience',
      label: 'Patience',
      help: 'How long that step is asked again. Usually 2 minutes.',
      example: '2 minutes',
      rare: true,
    },
    { key: 'after-success', label: 'After success', help: 'Steps that run when every copy was made.', rare: true },
    { key: 'after-failure', label: 'After failure', help: 'Steps that run when one was not.', rare: true },
    {
      key: 'always-after',
      label: 'Always after',
      help: 'Steps that run in any case, after a crash at the next start.',
      rare: true,
    },
    { key: 'retries', label: 'Retries', help: 'After failures that may pass.', example: '2', rare: true },
    {
      key: 'band',
      label: 'Usual range',
      help: 'A run that differs more than this from earlier ones is suspect.',
      example: '50 % and 100 MB',
      rare: true,
    },
  ],
  'log-rules': [
    {
      key: 'begins',
      label: 'Run begins',
      help: 'Lines that begin a run, with {time} where the time stands.',
      example: '=== copy started {time}',
    },
    {
      key: 'ends',
      label: 'Run ends',
      help: 'Lines that end it. Without any, a silence does.',
      example: '=== finished',
    },
    {
      key: 'ok',
      label: 'Ok',
      help: 'Text anywhere in a line. * stands for any text, {name} for a value, and /…/ is a regular expression.',
    },
    { key: 'warned', label: 'Warned' },
    { key: 'failed', label: 'Failed', help: 'A failure class may follow: no space left => store-full.' },
    { key: 'ignores', label: 'Ignored' },
    {
      key: 'figures',
      label: 'Figures',
      help: 'Lines with {items}, {size}, {bytes}, {duration}, {skipped}, {errors} or {code}.',
      example: '{items} files, {size}',
    },
    {
      key: 'exit-codes',
      label: 'Exit codes',
      help: 'Empty: 0 is ok, and everything else failed.',
      example: 'ok 0-3; warned 4, 6-7',
    },
    {
      key: 'times',
      label: 'Time format',
      help: 'How {time} is written, if in none of the usual forms.',
      example: 'dd.MM.yyyy HH:mm:ss',
      rare: true,
    },
    { key: 'zone', label: 'Time zone', help: 'Of times without an offset. Empty: the job’s.', zone: true, rare: true },
    {
      key: 'quiet-after',
      label: 'Over after a silence of',
      help: 'Where no line ends a run.',
      example: '10 minutes',
      rare: true,
    },
    {
      key: 'examples',
      label: 'Examples',
      whole: true,
      help: 'Logs whose meaning must not change. Keep one on the right.',
    },
  ],
  settings: [
    {
      key: 'zone',
      label: 'Time zone',
      help: 'Of schedules, periods and nights.',
      example: 'Europe/London',
      zone: true,
    },
    {
      key: 'tells',
      label: 'Tells',
      help: 'The people, rotas and channels that are told what no route and no job takes.',
    },
    {
      key: 'duty-mail',
      label: 'Duty mail',
      help: `A summary that is sent even when all is well. ${schedule}`,
      example: 'daily at 07:30',
    },
    {
      key: 'sign-of-life',
      label: 'Sign of life',
      help: `When each route says that it works, so that its silence is noticed. ${schedule}`,
      example: 'daily at 08:00',
    },
    {
      key: 'heartbeat-file',
      label: 'Heartbeat file',
      help: 'The file with an outside address that is fetched while the service is well, so that somebody else notices when it is not.',
      example: '/etc/ironkeep/heartbeat.url',
    },
    { key: 'heartbeat-every', label: 'Heartbeat every', help: 'Usually 5 minutes.', example: '5 minutes' },
    { key: 'runs-at-once', label: 'Runs at once', help: 'Over all machines and stores together.', example: '4' },
    {
      key: 'agent-lapses',
      label: 'Agents lapse after',
      help: 'After how long without contact a machine’s agent must be enrolled again. Usually 60 days.',
      example: '60 days',
    },
  ],
};

export const kinds = [
  'job',
  'store',
  'policy',
  'channel',
  'person',
  'rota',
  'route',
  'maintenance-window',
  'report',
  'cause',
  'step',
  'log-rules',
  'machine',
  'calendar',
  'rotation-set',
  'media-group',
];

/** A kind as people read it. */
export const words = (kind: string) => kind.replace('-', ' ');

/** The kinds that a key's values can name: "channel, person or rota" are three. */
export const kindsOf = (of: string) => of.split(/, | or /);
