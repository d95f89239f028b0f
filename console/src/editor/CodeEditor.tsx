import { autocompletion, closeBrackets, completionKeymap, type CompletionSource } from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { yaml } from '@codemirror/lang-yaml';
import { bracketMatching, indentUnit } from '@codemirror/language';
import { lintGutter, lintKeymap, setDiagnostics, type Diagnostic } from '@codemirror/lint';
import { highlightSelectionMatches, search, searchKeymap } from '@codemirror/search';
import { EditorState } from '@codemirror/state';
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view';
import { useEffect, useRef } from 'react';
import { look } from './look';

/** Something to say about a place of the text: line and column from 1. */
export interface Remark {
  line: number;
  column: number;
  severity: 'error' | 'warning';
  message: string;
}

/** A text with line numbers, colours, remarks at their lines and completion. Tab leaves it, as everywhere else on a page. */
export function CodeEditor(props: {
  label: string;
  start: string;
  change: (text: string) => void;
  remarks: Remark[];
  complete: CompletionSource;
  /** Called once with a way to go to a line. */
  ready?: (goTo: (line: number, column: number) => void) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const now = useRef(props);
  useEffect(() => {
    now.current = props;
  });
  useEffect(() => {
    const made = new EditorView({
      parent: box.current as HTMLDivElement,
      state: EditorState.create({
        doc: now.current.start,
        extensions: [
          lineNumbers(),
          lintGutter(),
          history(),
          drawSelection(),
          bracketMatching(),
          closeBrackets(),
          highlightActiveLine(),
          highlightSelectionMatches(),
          search({ top: true }),
          indentUnit.of('  '),
          yaml(),
          autocompletion({ override: [(context) => now.current.complete(context)] }),
          keymap.of([...completionKeymap, ...lintKeymap, ...searchKeymap, ...historyKeymap, ...defaultKeymap]),
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ 'aria-label': now.current.label, spellcheck: 'false', tabindex: '0' }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) now.current.change(update.state.doc.toString());
          }),
          look,
        ],
      }),
    });
    view.current = made;
    now.current.ready?.((line, column) => {
      const at = placeOf(made.state, line, column);
      made.dispatch({ selection: { anchor: at }, effects: EditorView.scrollIntoView(at, { y: 'center' }) });
      made.focus();
    });
    return () => made.destroy();
  }, []);
  useEffect(() => {
    const at = view.current;
    if (!at) return;
    at.dispatch(
      setDiagnostics(
        at.state,
        props.remarks.map((r) => diagnostic(at.state, r)).sort((a, b) => a.from - b.from),
      ),
    );
  }, [props.remarks]);
  return <div ref={box} className="code" />;
}

function placeOf(state: EditorState, line: number, column: number) {
  const at = state.doc.line(Math.min(Math.max(1, line), state.doc.lines));
  return Math.min(at.to, at.from + Math.max(0, column - 1));
}

/** From the place that is named to the end of its word, or of its line where there is none. */
function diagnostic(state: EditorState, r: Remark): Diagnostic {
  const from = placeOf(state, r.line, r.column);
  const rest = state.doc.lineAt(from).text.slice(from - state.doc.lineAt(from).from);
  const word = /^[^\s,\]}#]+/.exec(rest)?.[0].length ?? 0;
  return { from, to: from + word, severity: r.severity, message: r.message };
}
