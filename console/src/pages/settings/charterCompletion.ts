import type { CompletionContext, CompletionResult } from '@codemirror/autocomplete';
import type { Schemas } from '../../api/client';
import { kindsOf } from './fieldSpecs';

type Kind = Schemas['CharterKindAnswer'];
type Key = Schemas['CharterKeyAnswer'];

const indentOf = (line: string) => line.length - line.trimStart().length;
const keyOf = (line: string) => /^\s*([\w-]+)\s*:/.exec(line)?.[1];

/** The keys of the lines that a line stands under, outermost first. */
function above(lines: string[], at: number, indent: number): string[] {
  const way: string[] = [];
  let within = indent;
  for (let i = at - 1; i >= 0 && within > 0; i--) {
    const line = lines[i] ?? '';
    if (line.trim() === '' || line.trimStart().startsWith('#') || line.trimStart().startsWith('- ')) continue;
    const key = keyOf(line);
    if (key !== undefined && indentOf(line) < within) {
      way.unshift(key);
      within = indentOf(line);
    }
  }
  return way;
}

/** The names that are declared in a section of the text. */
export function namesIn(lines: string[], section: string): string[] {
  const from = lines.findIndex((l) => indentOf(l) === 0 && keyOf(l) === section);
  const names: string[] = [];
  let indent = 0;
  for (let i = from + 1; from >= 0 && i < lines.length; i++) {
    const line = lines[i] ?? '';
    if (line.trim() === '' || line.trimStart().startsWith('#')) continue;
    if (indentOf(line) === 0) break;
    indent ||= indentOf(line);
    const key = indentOf(line) === indent ? keyOf(line) : undefined;
    if (key !== undefined) names.push(key);
  }
  return names;
}

export interface Offer {
  /** Where in the line the word begins that is being typed. */
  from: number;
  options: { label: string; detail?: string; apply?: string }[];
}

/** What may stand at a place of a charter: keys of the object there, words that a key takes, or names that are declared in the text. */
export function offerAt(language: Kind[], text: string, line: number, column: number): Offer | null {
  const lines = text.split('\n');
  const before = (lines[line] ?? '').slice(0, column);
  const word = /[\w-]*$/.exec(before)?.[0] ?? '';
  const from = column - word.length;
  const start = before.slice(0, from);
  const indent = indentOf(before);

  const value = /^\s*([\w-]+)\s*:\s+(\[?|.*,\s*)$/.exec(start);
  const item = /^\s*-\s+$/.test(start);
  if (value || item) {
    // An item of a list may stand as far left as the key that it belongs to.
    const way = above(lines, line, item ? indent + 1 : indent);
    const key = value ? value[1] : way.pop();
    const kind = kindAt(language, way);
    const takes = kind?.keys.find((k) => k.key === key);
    const options = takes ? values(language, lines, takes) : [];
    return options.length > 0 ? { from, options } : null;
  }
  if (start.trim() !== '') return null;
  const way = above(lines, line, indent);
  const kind = kindAt(language, way);
  if (!kind) return null;
  const there = new Set(siblings(lines, line, indent));
  const keys = kind.keys
    .filter((k) => !there.has(k.key))
    .map((k) => ({ label: k.key, detail: detailOf(k), apply: `${k.key}: ` }));
  const sections =
    way.length > 0
      ? []
      : language.flatMap((k) =>
          k.section && !there.has(k.section)
            ? [{ label: k.section, detail: 'section', apply: `${k.section}:\n  ` }]
            : [],
        );
  return { from, options: [...keys, ...sections] };
}

/** The kind of object whose keys stand below these lines: the settings at the top, an object below its section and name. */
const kindAt = (language: Kind[], way: string[]) =>
  way.length === 0
    ? language.find((k) => k.section === null)
    : way.length === 2
      ? language.find((k) => k.section === way[0])
      : undefined;

function values(language: Kind[], lines: string[], takes: Key): Offer['options'] {
  if (takes.choices.length > 0) return takes.choices.map((c) => ({ label: c }));
  return kindsOf(takes.of ?? '').flatMap((kind) => {
    const section = language.find((k) => k.kind === kind)?.section;
    return section ? namesIn(lines, section).map((n) => ({ label: n, detail: kind })) : [];
  });
}

/** The keys that stand beside a line already. */
function siblings(lines: string[], at: number, indent: number): string[] {
  const keys: string[] = [];
  for (const step of [-1, 1]) {
    for (let i = at + step; i >= 0 && i < lines.length; i += step) {
      const line = lines[i] ?? '';
      if (line.trim() === '') continue;
      if (indentOf(line) < indent) break;
      const key = indentOf(line) === indent ? keyOf(line) : undefined;
      if (key !== undefined) keys.push(key);
    }
  }
  return keys;
}

const detailOf = (k: Key) => (k.list ? 'list' : '') + (k.of ? `${k.list ? ' of ' : ''}${k.of}` : '');

/** The same for an editor. */
export const completion =
  (language: Kind[]) =>
  (context: CompletionContext): CompletionResult | null => {
    const at = context.state.doc.lineAt(context.pos);
    const offer = offerAt(language, context.state.doc.toString(), at.number - 1, context.pos - at.from);
    if (!offer || (!context.explicit && offer.from === context.pos - at.from && at.text.trim() === '')) return null;
    return { from: at.from + offer.from, options: offer.options, validFor: /^[\w-]*$/ };
  };
