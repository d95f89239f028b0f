import { deskSpecs } from './deskSpecs';
import { jobSpecs } from './jobSpecs';
import { machineSpecs, serverKeys } from './machineSpecs';
import { peopleSpecs, schedule } from './peopleSpecs';

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
  /** Names or an expression: it is written, though there are names to choose from. */
  free?: boolean;
  /** Often longer than a line. */
  long?: boolean;
  /** A time zone. */
  zone?: boolean;
  /** Shown only when asked for: most objects leave it at its default. */
  rare?: boolean;
}

export const fieldSpecs: Record<string, FieldSpec[]> = {
  ...peopleSpecs,
  ...machineSpecs,
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
      help: 'Choose plain for archives that tar can unpack, or dated-files for a folder into which something else writes the copies.',
      rare: true,
    },
    {
      key: 'piece-size',
      label: 'Piece size',
      help: 'Plain archives are cut into files of at most this size. Empty: one file.',
      example: '4 GB',
      rare: true,
    },
    {
      key: 'compressed',
      label: 'Compressed',
      help: 'Whether plain archives are compressed with Zstandard; usually yes.',
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
  ...jobSpecs,
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
    {
      key: 'jobs-like',
      label: 'Jobs are like',
      help: 'The job group whose values all jobs have that say no others.',
    },
  ],
};

export const kinds = [
  'job',
  'job-group',
  'variant',
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
  'line',
  'calendar',
  'rotation-set',
  'media-group',
];

/** A kind as people read it. */
export const words = (kind: string) => kind.replace('-', ' ');

/** The kinds that a key's values can name: "channel, person or rota" are three. */
export const kindsOf = (of: string) => of.split(/, | or /);
