import { Button, NumberInput, Select, Textarea, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useSearchParams } from 'react-router';
import { api, take, type Fields, type Schemas } from '../../api/client';
import { useRun, useRunLog, useRuns } from '../../api/hooks';
import { Empty, Problem } from '../../ui/Page';
import { Status } from '../../ui/Status';
import { count, size, took } from '../../ui/format';

type Tried = Schemas['LogTryAnswer'];
type List = Schemas['LogList'];

/** Lists into which a selected text can go, with the words for what that means. */
const lists: [Exclude<List, 'figures'>, string][] = [
  ['begins', 'begins a run'],
  ['ends', 'ends it'],
  ['ok', 'says ok'],
  ['warned', 'warns'],
  ['failed', 'says failed'],
  ['ignores', 'means nothing'],
];

const looks: Record<List, string> = {
  failed: 'tone-failed',
  warned: 'tone-warned',
  ok: 'tone-ok',
  begins: 'soft',
  ends: 'soft',
  figures: 'soft',
  ignores: 'soft',
};

/** What the rules of the form make of a log while they are typed; rules are made of what is selected in it. */
export function LogBench(props: { name: string; fields: Fields; set: (fields: Fields) => void }) {
  const [query] = useSearchParams();
  const [picked, setPicked] = useState<string | null>(query.get('run'));
  const [pasted, setPasted] = useState<string | null>(null);
  const run = useRun(picked ? Number(picked) : undefined);
  const kept = useRunLog(run.data);
  // What the service itself said of the run at its end is no line of its log.
  const said = kept.data?.lines.filter(
    (l) => l.text !== run.data?.sentence || run.data.evidence?.lines.some((e) => e.text === l.text),
  );
  const log = pasted ?? said?.map((l) => l.text).join('\n') ?? '';
  const [code, setCode] = useState<number | string>('');
  const [asked] = useDebouncedValue(JSON.stringify({ fields: props.fields, log, code }), 250);
  const tried = useQuery({
    queryKey: ['try-log', props.name, asked],
    enabled: log !== '',
    placeholderData: (before) => before,
    queryFn: () => {
      const { fields, log, code } = JSON.parse(asked) as { fields: Fields; log: string; code: number | string };
      return take(
        api.POST('/api/v1/definitions/log-rules/{name}/try', {
          params: { path: { name: props.name || 'unnamed' } },
          body: { fields: filled(fields), log, exitCode: code === '' ? null : Number(code) },
        }),
      );
    },
  });
  return (
    <section className="sheet" aria-label="Try the rules">
      <h2>Try them on a log</h2>
      <div className="form">
        <PickRun picked={picked} pick={(id) => (setPicked(id), setPasted(null))} />
        <Textarea
          size="xs"
          label="Log"
          description="Pasted here, or taken from a run."
          minRows={3}
          maxRows={7}
          autosize
          spellCheck={false}
          value={log}
          onChange={(e) => setPasted(e.currentTarget.value)}
          styles={{ input: { fontFamily: 'var(--mantine-font-family-monospace)', fontSize: 12 } }}
        />
        <NumberInput
          size="xs"
          label="Exit code of its last run"
          description="Empty: not known."
          value={code}
          onChange={setCode}
          allowDecimal={false}
        />
      </div>
      <Problem error={tried.error} />
      {log === '' ? (
        <Empty>Paste a log, or choose a run: each line is marked while you write rules.</Empty>
      ) : (
        tried.data && (
          <>
            <Runs tried={tried.data} />
            <Lines log={log} tried={tried.data} fields={props.fields} set={props.set} />
            <KeepExample log={log} code={code} tried={tried.data} fields={props.fields} set={props.set} />
          </>
        )
      )}
    </section>
  );
}

const filled = (fields: Fields): Fields =>
  Object.fromEntries(
    Object.entries(fields)
      .map(([k, v]) => [k, v.filter((x) => x.trim() !== '')] as const)
      .filter(([, v]) => v.length > 0),
  );

function PickRun({ picked, pick }: { picked: string | null; pick: (id: string | null) => void }) {
  const runs = useRuns({ kind: 'watched', limit: 50 });
  const rows = runs.data?.items ?? [];
  return (
    <Select
      size="xs"
      label="Log of a run"
      placeholder={rows.length === 0 ? 'No watched run yet' : 'Choose one'}
      clearable
      data={rows.map((r) => ({
        value: String(r.id),
        label: `${r.job} ${(r.began ?? r.queued).slice(0, 16).replace('T', ' ')} ${r.outcome ?? r.state}`,
      }))}
      value={rows.some((r) => String(r.id) === picked) ? picked : null}
      onChange={pick}
    />
  );
}

function Runs({ tried }: { tried: Tried }) {
  if (tried.mistakes.length > 0) return <Empty>{tried.mistakes[0]?.message}</Empty>;
  if (tried.runs.length === 0)
    return <Empty>No run begins in {count(tried.lineCount, 'line')}. Select the line that begins one.</Empty>;
  return (
    <dl className="facts-grid" aria-label="Runs in the log">
      {tried.runs.map((r) => (
        <div key={r.firstLine} style={{ display: 'contents' }}>
          <dt>
            lines {r.firstLine} to {r.lastLine}
          </dt>
          <dd>
            <Status state={r.outcome} /> {r.class && <span className="soft">{r.class}</span>} {r.sentence}
            <div className="soft">{figuresOf(r)}</div>
          </dd>
        </div>
      ))}
    </dl>
  );
}

function figuresOf(run: Schemas['TriedRun']): string {
  const f = run.figures;
  return [
    typeof f.items === 'number' && count(f.items, 'item'),
    typeof f.bytes === 'number' && size(f.bytes),
    typeof f.seconds === 'number' && took(f.seconds),
    typeof f.skipped === 'number' && `${f.skipped} skipped`,
    typeof f.errors === 'number' && count(f.errors, 'error'),
    run.exitCode !== null && `exit code ${run.exitCode}`,
  ]
    .filter((x) => typeof x === 'string')
    .join(', ');
}

const shown = 500;

function Lines(props: { log: string; tried: Tried; fields: Fields; set: (fields: Fields) => void }) {
  const [selected, setSelected] = useState('');
  const marks = new Map(props.tried.lines.map((l) => [l.line, l.marks]));
  const decided = new Set(props.tried.runs.flatMap((r) => r.evidence.map((e) => e.line)));
  const lines = props.log.split('\n');
  const select = () => {
    const text = window.getSelection()?.toString() ?? '';
    setSelected(text.includes('\n') ? '' : text.trim());
  };
  const add = (list: List) => {
    props.set({ ...props.fields, [list]: [...(props.fields[list] ?? []), escaped(selected)] });
    window.getSelection()?.removeAllRanges();
    setSelected('');
  };
  return (
    <>
      <div className="log-said" role="toolbar" aria-label="Make a rule">
        {selected === '' ? (
          <span className="soft">Select text in a line to turn it into a rule.</span>
        ) : (
          <>
            <span className="mono log-selected">{selected}</span>
            {lists.map(([list, means]) => (
              <Button
                key={list}
                size="compact-xs"
                variant="default"
                onMouseDown={(e) => e.preventDefault()}
                onClick={() => add(list)}
              >
                {means}
              </Button>
            ))}
          </>
        )}
      </div>
      <ol className="log-lines mono" aria-label="Lines of the log" onMouseUp={select} onKeyUp={select}>
        {lines.slice(0, shown).map((line, i) => {
          const of = marks.get(i + 1) ?? [];
          const worst = (['failed', 'warned', 'ok', 'begins', 'ends', 'figures', 'ignores'] as const).find((l) =>
            of.some((m) => m.list === l),
          );
          return (
            <li key={i} className={decided.has(i + 1) ? 'log-decided' : undefined}>
              <span className="log-number">{i + 1}</span>
              <span className={`log-mark ${worst ? looks[worst] : ''}`}>{worst ?? ''}</span>
              <span className={worst === 'ignores' ? 'soft' : undefined}>
                {line || ' '}
                {of.map((m, n) => (
                  <span key={n} className="log-why" title={`${m.list}: ${m.pattern}`}>
                    {Object.entries(m.values)
                      .map(([k, v]) => `${k} = ${v}`)
                      .join(', ')}
                  </span>
                ))}
              </span>
            </li>
          );
        })}
      </ol>
      {lines.length > shown && (
        <Empty>
          Of {count(lines.length, 'line')}, the first {shown} are shown.
        </Empty>
      )}
    </>
  );
}

/** Text as a pattern that means just this text. */
export const escaped = (text: string) => {
  const plain = text.replace(/([\\*{])/g, '\\$1');
  return /^[/^]/.test(plain) ? `\\${plain}` : plain.replace(/\$$/, '\\$');
};

function KeepExample(props: {
  log: string;
  code: number | string;
  tried: Tried;
  fields: Fields;
  set: (fields: Fields) => void;
}) {
  const [name, setName] = useState('');
  const outcome = props.tried.runs[props.tried.runs.length - 1]?.outcome;
  const [expected, setExpected] = useState<string | null>(null);
  const means = expected ?? outcome ?? null;
  const keep = () => {
    const head = `${name}: ${means}${props.code === '' ? '' : `, exit code ${props.code}`}`;
    props.set({ ...props.fields, examples: [...(props.fields.examples ?? []), `${head}\n${props.log}`] });
    setName('');
  };
  return (
    <div className="form" style={{ borderTop: '1px solid var(--line)' }}>
      <TextInput
        size="xs"
        label="Keep this log as an example"
        description="A later change of the rules that would judge it differently is a mistake."
        placeholder="a night that went well"
        value={name}
        onChange={(e) => setName(e.currentTarget.value.replace(/[:\n]/g, ''))}
      />
      <Select
        size="xs"
        label="It means"
        data={['ok', 'warned', 'suspect', 'failed']}
        value={means}
        onChange={setExpected}
      />
      <Button size="xs" variant="default" disabled={name.trim() === '' || means === null} onClick={keep}>
        Keep as example
      </Button>
    </div>
  );
}
