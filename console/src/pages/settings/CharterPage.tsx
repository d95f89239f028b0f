import { Button } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { useMemo, useRef, useState } from 'react';
import { api, take, type Schemas } from '../../api/client';
import { useAct, useCharter, useLanguage } from '../../api/hooks';
import { CodeEditor, type Remark } from '../../editor/CodeEditor';
import { When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Answer, Page, Problem } from '../../ui/Page';
import { Status } from '../../ui/Status';
import { Change } from './Change';
import { completion } from './charterCompletion';
import { example } from './example';
import { Means } from './Means';
import { Reach } from './Reach';

/** The charter as text: mistakes while typing, the difference before it is put in force. */
export function CharterPage() {
  const charter = useCharter();
  const language = useLanguage();
  return (
    <Page
      title="Charter"
      facts={
        charter.data &&
        (charter.data.appliedAt ? (
          <>
            revision {charter.data.revision}, applied by {charter.data.by} <When at={charter.data.appliedAt} />
          </>
        ) : (
          'none in force yet; here is an example to begin with'
        ))
      }
    >
      <Answer of={charter}>
        {(c) => (
          <Answer of={language}>
            {(l) => (
              <Editor key={c.revision} start={c.revision === 0 ? example : c.yaml} revision={c.revision} language={l} />
            )}
          </Answer>
        )}
      </Answer>
    </Page>
  );
}

function Editor(props: { start: string; revision: number; language: Schemas['CharterKindAnswer'][] }) {
  const { start, revision, language } = props;
  const [text, setText] = useState(start);
  const [settled] = useDebouncedValue(text, 300);
  const [agreed, setAgreed] = useState(false);
  const check = useQuery({
    queryKey: ['charter-check', settled],
    queryFn: async () => {
      const found = await take(api.POST('/api/v1/charter/check', { body: { yaml: settled } }));
      const diff = found.well ? await take(api.POST('/api/v1/charter/diff', { body: { yaml: settled } })) : null;
      return { found, diff };
    },
    placeholderData: (before) => before,
  });
  const apply = useAct((yaml: string) =>
    take(
      api.PUT('/api/v1/charter', {
        // What it means for copies stands beside the button.
        params: { query: { confirm: agreed } },
        body: { yaml },
        headers: { 'If-Match': `"r${revision}"` },
      }),
    ),
  );
  const goTo = useRef<(line: number, column: number) => void>(undefined);
  const setGoTo = (to: typeof goTo.current) => {
    goTo.current = to;
  };
  const complete = useMemo(() => completion(language), [language]);
  const found = check.data?.found;
  const remarks = useMemo<Remark[]>(
    () => [
      ...(found?.mistakes ?? []).map((m) => ({ ...m, severity: 'error' as const })),
      ...(found?.notes ?? []).map((m) => ({ ...m, severity: 'warning' as const })),
    ],
    [found],
  );
  const changes = check.data?.diff?.changes ?? [];
  const means = check.data?.diff?.consequences ?? [];
  return (
    <div className="columns wide-first">
      <CodeEditor
        label="Charter (YAML)"
        start={start}
        change={setText}
        remarks={remarks}
        complete={complete}
        ready={setGoTo}
      />
      <section className="sheet" aria-label="What it would do">
        <h2>
          {check.data?.found.well === false
            ? count(check.data.found.mistakes.length, 'mistake')
            : 'What it would change'}
        </h2>
        <Problem error={check.error} />
        {check.data?.found.mistakes.map((m, i) => (
          <div key={i} style={{ padding: '8px 14px', borderBottom: '1px solid var(--line)' }}>
            <Status state="failed">
              <button type="button" className="fold" onClick={() => goTo.current?.(m.line, m.column)}>
                line {m.line}, column {m.column}
              </button>
            </Status>{' '}
            <span className="soft">{m.about}</span>
            <div>{m.message}</div>
          </div>
        ))}
        {check.data?.found.well && changes.length === 0 && (
          <div className="empty">No changes: this is the charter in force.</div>
        )}
        {check.data?.found.notes.map((m, i) => (
          <div key={i} style={{ padding: '8px 14px', borderBottom: '1px solid var(--line)' }}>
            <Status state="warned">
              <button type="button" className="fold" onClick={() => goTo.current?.(m.line, m.column)}>
                line {m.line}
              </button>
            </Status>{' '}
            <span className="soft">{m.about}</span>
            <div>{m.message}</div>
          </div>
        ))}
        <Means of={means} agreed={agreed} agree={setAgreed} />
        {changes.map((c) => (
          <Change key={`${c.object} ${c.name}`} change={c} />
        ))}
        <Reach of={check.data?.diff?.reach ?? []} changes={changes} />
        <div style={{ padding: '12px 14px' }}>
          <Button
            size="xs"
            disabled={changes.length === 0 || settled !== text || (means.length > 0 && !agreed)}
            loading={apply.isPending}
            onClick={() => apply.mutate(text)}
          >
            Apply
          </Button>
          <Problem error={apply.error} />
        </div>
      </section>
    </div>
  );
}
