import type { FieldSpec } from './fieldSpecs';

/** How a schedule is written, for every field that takes one. */
export const schedule =
  'Such as “daily at 23:00”, “weekdays at 22:30”, “every 6 hours”, “last fri of month at 20:00”, or a crontab line.';

const tellable = 'Names of people, rotas and channels.';
const tagsOf = (whose: string) => `Words by which routes and maintenance windows take ${whose}, one per line.`;

export const tags = (whose: string): FieldSpec => ({
  key: 'tags',
  label: 'Tags',
  help: tagsOf(whose),
  example: 'mainland',
  rare: true,
});

/** Who is told: people, rotas, routes, maintenance windows, and what a site says of failures. */
export const peopleSpecs: Record<string, FieldSpec[]> = {
  person: [
    { key: 'told-by', label: 'Told by', help: 'The channels that reach this person, in order.' },
    {
      key: 'mail',
      label: 'Mail address',
      help: 'Where channels that carry mail send it. Empty: to the channel’s own addresses.',
      example: 'mira@example.org',
    },
    {
      key: 'hours',
      label: 'Hours',
      help: 'When this person may be told, one per line. Empty: at any hour.',
      example: '07:00 to 22:00',
    },
    {
      key: 'away',
      label: 'Away',
      help: 'Days on which others are told instead, one per line: a date, a span, or a day of every year.',
      example: '2027-07-01 to 2027-07-14',
    },
    { key: 'zone', label: 'Time zone', help: 'Of the hours. Empty: the charter’s.', zone: true, rare: true },
  ],
  rota: [
    { key: 'members', label: 'Members', help: 'The people who take turns, in order.' },
    {
      key: 'changes',
      label: 'Changes',
      help: 'When the next takes over, such as “mon at 09:00” or “daily at 08:00 and 20:00”.',
      example: 'mon at 09:00',
    },
    {
      key: 'first',
      label: 'First day',
      help: 'From this day on turns are counted; the first member begins.',
      example: '2026-12-07',
    },
    { key: 'stand-in', label: 'Stand-in', help: 'Who is told while the one on duty is away or outside their hours.' },
    { key: 'zone', label: 'Time zone', help: 'Of the changes. Empty: the charter’s.', zone: true, rare: true },
  ],
  route: [
    { key: 'severity', label: 'Severity', help: 'Which alerts it takes by what is at stake. Empty: all.' },
    { key: 'class', label: 'Class', help: 'Which alerts it takes by what happened. Empty: all.', rare: true },
    { key: 'tags', label: 'Tags', help: 'Of jobs and machines. Empty: whatever they have.', example: 'mainland' },
    { key: 'jobs', label: 'Jobs', help: 'Empty: all.' },
    { key: 'machines', label: 'Machines', help: 'Empty: all.' },
    { key: 'stores', label: 'Stores', help: 'Empty: all.', rare: true },
    { key: 'tells', label: 'Tells', help: tellable },
    { key: 'tell-when', label: 'Tell', help: 'Of trouble, or always: of the end of every run as well.', rare: true },
    {
      key: 'digest',
      label: 'Digest',
      help: 'When what has come together is told in one message. Empty: each at once.',
      example: 'daily at 08:00',
    },
    {
      key: 'unseen-for',
      label: 'Unseen for',
      help: 'After how long an alert that nobody has acknowledged goes to others as well.',
      example: '30 minutes',
    },
    { key: 'then-tells', label: 'Then tells', help: tellable },
  ],
  'maintenance-window': [
    {
      key: 'when',
      label: 'Begins',
      help: 'Such as “sat at 22:00” or “once at 2026-12-05 22:00”.',
      example: 'sat at 22:00',
    },
    { key: 'lasts', label: 'Lasts', example: '6 hours' },
    { key: 'everything', label: 'Everything', help: 'Whether it covers all there is.' },
    { key: 'machines', label: 'Machines' },
    { key: 'stores', label: 'Stores' },
    { key: 'tags', label: 'Tags', help: 'Of jobs and machines.', example: 'mainland' },
    { key: 'note', label: 'Note', help: 'What is worked on.', example: 'The ferry link is replaced.' },
  ],
  report: [
    { key: 'every', label: 'Over', help: 'It looks back over the last whole week, Monday to Sunday, or month.' },
    {
      key: 'sites',
      label: 'Sites',
      help: 'Of machines, one per line. With several conditions all must apply; without any it is of all jobs.',
    },
    { key: 'owners', label: 'Owners', help: 'Of machines, one per line.' },
    { key: 'tags', label: 'Tags', help: 'Of jobs or their machines, one per line.' },
    { key: 'machines', label: 'Machines' },
    { key: 'jobs', label: 'Jobs' },
    {
      key: 'when',
      label: 'Made',
      help: 'Empty: at six on the first day after the period.',
      example: 'mon at 07:30',
      rare: true,
    },
    { key: 'tells', label: 'Tells', help: `${tellable} Empty: it is kept, and told to nobody.` },
  ],
  step: [
    {
      key: 'command',
      label: 'Command',
      help: 'The program and its words, one per line. No shell reads them, and the machine must allow them.',
      example: 'systemctl',
    },
    { key: 'as', label: 'As', help: 'The user that it runs as. Empty: that of the agent.', example: 'postgres' },
    { key: 'limit', label: 'Limit', help: 'After how long it is ended. Usually 10 minutes.', example: '10 minutes' },
    {
      key: 'keeps-as',
      label: 'Keeps as',
      help: 'The file as which its output is kept by jobs that take it as a stream.',
      example: 'register.dump',
    },
    { key: 'note', label: 'Note', example: 'Stops the register.' },
  ],
  cause: [
    {
      key: 'cause',
      label: 'Plain cause',
      help: 'What your site says of this failure class. Empty: the usual words.',
      example: 'the store is full',
    },
    {
      key: 'remedy',
      label: 'What to do',
      help: 'What your site says is to be done. Empty: the usual words.',
      example: 'Ask the office for the spare disk, then run the job again.',
    },
  ],
};
