import type { FieldSpec } from './fieldSpecs';

/** What a channel says of a ticket desk. */
export const deskSpecs: FieldSpec[] = [
  {
    key: 'desk',
    label: 'Ticket desk',
    help: 'In place of mail: the address of a desk in which every alert becomes a ticket.',
    example: 'https://desk.example.org/api',
  },
  {
    key: 'headers',
    label: 'Headers',
    help: 'Sent with every request, one per line. {secret} stands for what the token file holds.',
    example: 'X-Site: heron',
    rare: true,
  },
  {
    key: 'opens',
    label: 'Opens a ticket',
    help: 'The request that opens a ticket.',
    example: 'POST /tickets',
  },
  {
    key: 'open-body',
    label: 'Its body',
    help: 'What it sends. Fields in braces are filled in: {title}, {text}, {severity}, or {run else none} where a field is not always there.',
    example: '{"title": "{title}", "text": "{text}"}',
    long: true,
  },
  {
    key: 'reference',
    label: 'Reference',
    help: 'Where the answer holds the ticket’s reference: a JSON pointer, or the name of a header.',
    example: '/number',
  },
  {
    key: 'updates',
    label: 'Updates a ticket',
    help: 'The request for what is told of an alert later. Empty: the desk hears only of its beginning and its end.',
    example: 'POST /tickets/{reference}/notes',
    rare: true,
  },
  { key: 'update-body', label: 'Its body', help: 'What the update sends.', rare: true, long: true },
  {
    key: 'closes',
    label: 'Closes a ticket',
    help: 'The request for the end of an alert.',
    example: 'PUT /tickets/{reference}/state',
    rare: true,
  },
  { key: 'close-body', label: 'Its body', help: 'What the end of an alert sends.', rare: true, long: true },
  {
    key: 'ticket-page',
    label: 'Ticket page',
    help: 'The page to which the alert is linked.',
    example: 'https://desk.example.org/tickets/{reference}',
    rare: true,
  },
];
