import { HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import { EditorView } from '@codemirror/view';
import { tags } from '@lezer/highlight';

const colours = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--code-key)', fontWeight: '550' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--code-text)' },
  { tag: [tags.comment, tags.lineComment], color: 'var(--soft)', fontStyle: 'italic' },
  { tag: [tags.separator, tags.punctuation, tags.squareBracket, tags.brace], color: 'var(--soft)' },
]);

const box = EditorView.theme({
  '&': { fontSize: '12.5px', height: '100%', color: 'var(--mantine-color-text)', backgroundColor: 'var(--card)' },
  '&.cm-focused': { outline: '2px solid var(--lamp)', outlineOffset: '-1px' },
  '.cm-scroller': { fontFamily: 'var(--mantine-font-family-monospace)', lineHeight: '1.55' },
  '.cm-gutters': { backgroundColor: 'var(--card)', color: 'var(--soft)', borderRight: '1px solid var(--line)' },
  '.cm-activeLine': { backgroundColor: 'var(--code-line)' },
  '.cm-cursor': { borderLeftColor: 'var(--mantine-color-text)' },
  '.cm-selectionBackground, &.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground': {
    backgroundColor: 'var(--lamp-glow)',
  },
  '.cm-selectionMatch': { backgroundColor: 'var(--quiet-cell)' },
  '.cm-panels, .cm-tooltip': {
    backgroundColor: 'var(--card)',
    color: 'var(--mantine-color-text)',
    borderColor: 'var(--line)',
  },
  '.cm-tooltip-autocomplete ul li[aria-selected]': {
    backgroundColor: 'var(--lamp-glow)',
    color: 'var(--mantine-color-text)',
  },
  '.cm-completionDetail': { color: 'var(--soft)', fontStyle: 'normal' },
  '.cm-diagnostic': {
    padding: '4px 8px',
    maxWidth: '420px',
    fontFamily: 'var(--mantine-font-family)',
    fontSize: '13px',
  },
  '.cm-button': { backgroundImage: 'none', backgroundColor: 'var(--ground)', border: '1px solid var(--line)' },
  '.cm-textfield': { backgroundColor: 'var(--ground)', border: '1px solid var(--line)' },
});

/** The console's own colours, light and dark, on an editor. */
export const look = [box, syntaxHighlighting(colours)];
