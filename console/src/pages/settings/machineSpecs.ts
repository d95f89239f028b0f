import type { FieldSpec } from './fieldSpecs';
import { tags } from './peopleSpecs';

/** How an SSH server is known, and how the service signs in to it. */
export const serverKeys: FieldSpec[] = [
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

/** The fields of machines and of the lines that they share. */
export const machineSpecs: Record<string, FieldSpec[]> = {
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
    {
      key: 'site',
      label: 'Site',
      help: 'Where it stands, for reports and for jobs that take a site.',
      example: 'lighthouse',
      rare: true,
    },
    {
      key: 'owner',
      label: 'Owner',
      help: 'Whose it is, for reports and for jobs that take what is theirs.',
      example: 'ringing-group',
      rare: true,
    },
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
    {
      key: 'listed-in',
      label: 'Listed in',
      help: 'The inventory that lists it. An import of that inventory changes it, and says when it is listed no more.',
      example: 'inventory',
      rare: true,
    },
    {
      key: 'retired',
      label: 'Retired since',
      help: 'Since which day it is out of work. No job is done there any more, and none of its copies expires.',
      example: '2026-11-30',
      rare: true,
    },
    {
      key: 'copies-until',
      label: 'Copies until',
      help: 'Of a retired machine: until which day its copies are kept.',
      example: '2028-01-31',
      rare: true,
    },
    {
      key: 'copies-owner',
      label: 'Copies are of',
      help: 'Of a retired machine: who decides about its copies.',
      example: 'maud',
      rare: true,
    },
    {
      key: 'decide-by',
      label: 'Decided by',
      help: 'Of a retired machine: by which day that is decided.',
      example: '2027-12-01',
      rare: true,
    },
  ],
  line: [
    {
      key: 'machines',
      free: true,
      label: 'Machines',
      help: 'Which machines share it: their names, one per line, or what they have in common.',
      example: 'site = lighthouse',
    },
    {
      key: 'runs-at-once',
      label: 'Runs at once',
      help: 'How many of their runs may be at work together.',
      example: '2',
    },
    {
      key: 'bandwidth',
      label: 'Bandwidth',
      help: 'How much copies over it may take together, one per line; the least that applies holds.',
      example: '20 Mbit/s',
    },
  ],
};
