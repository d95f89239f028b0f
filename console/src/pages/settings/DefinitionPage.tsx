import { Anchor, Autocomplete, Button, Modal, Select, Textarea, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { api, take, type Fields } from '../../api/client';
import { useAct, useDefinitions } from '../../api/hooks';
import { Answer, Page, Problem } from '../../ui/Page';
import { Effect } from './Effect';
import { LogBench } from './LogBench';
import { Means } from './Means';
import { fieldSpecs, words, type FieldSpec } from './fieldSpecs';

/** One object of the charter as a form that shows its effect while somebody types; the difference comes before saving. */
export function DefinitionPage() {
  const { kind = '', name = '' } = useParams();
  const isNew = name === 'new';
  const one = useQuery({
    queryKey: ['charter', 'definition', kind, name],
    enabled: !isNew,
    refetchOnWindowFocus: false,
    queryFn: () => take(api.GET('/api/v1/definitions/{kind}/{name}', { params: { path: { kind, name } } })),
  });
  const title =
    kind === 'settings' ? 'Settings of the charter' : isNew ? `New ${words(kind)}` : `${words(kind)} ${name}`;
  return (
    <Page title={title} facts={isNew ? 'nothing is saved before you say so' : undefined}>
      {isNew ? (
        <Form kind={kind} start={{}} tag={undefined} name={undefined} />
      ) : (
        <Answer of={one}>{(d) => <Form key={d.tag} kind={kind} name={name} start={d.fields} tag={d.tag} />}</Answer>
      )}
    </Page>
  );
}

function Form(props: { kind: string; name: string | undefined; start: Fields; tag: string | undefined }) {
  const { kind, start, tag } = props;
  const navigate = useNavigate();
  const [name, setName] = useState(props.name ?? '');
  const [fields, setFields] = useState<Fields>(start);
  const [rare, setRare] = useState(false);
  const [removing, setRemoving] = useState(false);
  const [agreed, setAgreed] = useState(false);
  const [ahead, setAhead] = useState(0);
  const [settled] = useDebouncedValue(JSON.stringify({ name, fields }), 300);
  const [settledAhead] = useDebouncedValue(ahead, 150);
  const path = { kind, name: name || 'unnamed' };
  const preview = useQuery({
    queryKey: ['preview', kind, settled, settledAhead],
    placeholderData: (before) => before,
    queryFn: () =>
      take(
        api.POST('/api/v1/definitions/{kind}/{name}/preview', {
          params: { path, query: settledAhead > 0 ? { on: later(settledAhead) } : {} },
          body: { fields: clean(fields) },
        }),
      ),
  });
  const save = useAct(() =>
    take(
      api.PUT('/api/v1/definitions/{kind}/{name}', {
        params: { path, query: { confirm: agreed } },
        body: { fields: clean(fields) },
        headers: tag ? { 'If-Match': tag } : { 'If-None-Match': '*' },
      }),
    ),
  );
  const remove = useAct(() =>
    take(
      api.DELETE('/api/v1/definitions/{kind}/{name}', {
        params: { path, query: { confirm: true } },
        headers: { 'If-Match': tag ?? '' },
      }),
    ),
  );
  const specs = fieldSpecs[kind] ?? [];
  const shown = specs.filter((s) => rare || !s.rare || (fields[s.key]?.length ?? 0) > 0);
  const mistakes = preview.data?.mistakes ?? [];
  const means = preview.data?.consequences ?? [];
  const ready =
    preview.data &&
    mistakes.length === 0 &&
    (means.length === 0 || agreed) &&
    settled === JSON.stringify({ name, fields });
  // What was saved comes back with another tag and makes a new form, so the way on must not depend on this one; whoever has gone
  // elsewhere meanwhile is left there.
  const goOn = (done: Promise<unknown>, to: string) => {
    const here = window.location.pathname;
    done.then(
      () => window.location.pathname === here && void navigate(to),
      () => undefined,
    );
  };
  const back = kind === 'job' && props.name ? `/jobs/${props.name}` : '/settings';
  return (
    <div className="columns" style={{ gridTemplateColumns: 'minmax(320px, 2fr) minmax(340px, 3fr)' }}>
      <form
        className="sheet form"
        aria-label="Fields"
        onSubmit={(e) => {
          e.preventDefault();
          goOn(save.mutateAsync(undefined), back);
        }}
      >
        {props.name === undefined && (
          <TextInput
            size="xs"
            label="Name"
            required
            data-autofocus
            description="Lower-case letters, digits and hyphens."
            value={name}
            onChange={(e) => setName(e.currentTarget.value.trim())}
          />
        )}
        {shown.map((s) => (
          <Field
            key={s.key}
            spec={s}
            values={fields[s.key] ?? []}
            mistake={mistakes.find((m) => m.field === s.key)?.message}
            set={(values) => setFields({ ...fields, [s.key]: values })}
          />
        ))}
        {specs.some((s) => s.rare) && (
          <Anchor component="button" type="button" size="sm" c="inherit" onClick={() => setRare(!rare)}>
            {rare ? 'Fewer fields' : 'More fields'}
          </Anchor>
        )}
        <Means of={means} agreed={agreed} agree={setAgreed} />
        <Problem error={save.error ?? remove.error} />
        <div style={{ display: 'flex', gap: 8, marginTop: 4 }}>
          <Button
            type="submit"
            size="xs"
            disabled={!ready || name === '' || preview.data?.changes.length === 0}
            loading={save.isPending}
          >
            Save
          </Button>
          <Button size="xs" variant="default" onClick={() => void navigate(back)}>
            Cancel
          </Button>
          {tag && kind !== 'settings' && (
            <Button size="xs" variant="subtle" color="gray" ml="auto" onClick={() => setRemoving(true)}>
              Remove
            </Button>
          )}
        </div>
      </form>
      <div className="columns">
        {preview.error ? (
          <Problem error={preview.error} />
        ) : (
          preview.data && (
            <>
              {kind === 'log-rules' && <LogBench name={name} fields={fields} set={setFields} />}
              <Effect kind={kind} preview={preview.data} ahead={ahead} setAhead={setAhead} />
            </>
          )
        )}
      </div>
      {removing && (
        <TakeOut
          what={`${kind} ${name}`}
          name={name}
          pending={remove.isPending}
          error={remove.error}
          close={() => setRemoving(false)}
          act={() => goOn(remove.mutateAsync(undefined), '/settings')}
        />
      )}
    </div>
  );
}

const clean = (fields: Fields): Fields =>
  Object.fromEntries(
    Object.entries(fields)
      // A log that is kept as an example is left as it is.
      .map(([k, v]) => [k, v.map((x) => (k === 'examples' ? x : x.trim())).filter((x) => x.trim() !== '')] as const)
      .filter(([, v]) => v.length > 0),
  );

function Field(props: {
  spec: FieldSpec;
  values: string[];
  mistake: string | undefined;
  set: (values: string[]) => void;
}) {
  const { spec, values, set } = props;
  const definitions = useDefinitions();
  const names = spec.of ? (definitions.data ?? []).filter((d) => d.kind === spec.of).map((d) => d.name) : [];
  const shared = {
    size: 'xs',
    label: spec.label,
    description:
      spec.list && spec.of && names.length > 0 ? `${spec.help ?? ''} There are: ${names.join(', ')}.` : spec.help,
    placeholder: spec.example,
    error: values.length > 0 || props.mistake ? props.mistake : undefined,
  };
  if (spec.choices)
    return (
      <Select
        {...shared}
        data={spec.choices}
        clearable
        placeholder={spec.choices[0]}
        value={values[0] ?? null}
        onChange={(v) => set(v ? [v] : [])}
      />
    );
  if (spec.whole) return <Wholes {...shared} values={values} set={set} />;
  if (spec.list)
    return (
      <Textarea
        {...shared}
        autosize
        value={values.join('\n')}
        onChange={(e) => set(e.currentTarget.value === '' ? [] : e.currentTarget.value.split('\n'))}
      />
    );
  if (spec.of)
    return <Autocomplete {...shared} data={names} value={values[0] ?? ''} onChange={(v) => set(v ? [v] : [])} />;
  return (
    <TextInput
      {...shared}
      value={values[0] ?? ''}
      onChange={(e) => set(e.currentTarget.value === '' ? [] : [e.currentTarget.value])}
    />
  );
}

/** Values of several lines each, which can be taken out one by one. */
function Wholes(props: {
  label: string;
  description?: string | undefined;
  error?: string | undefined;
  values: string[];
  set: (values: string[]) => void;
}) {
  return (
    <div>
      <div style={{ fontSize: 12, fontWeight: 500 }}>{props.label}</div>
      {props.description && (
        <div className="soft" style={{ fontSize: 12 }}>
          {props.description}
        </div>
      )}
      {props.values.map((v, i) => (
        <div key={i} style={{ display: 'flex', gap: 8, alignItems: 'baseline' }}>
          <span className="mono" style={{ flex: 1, fontSize: 12 }}>
            {v.split('\n')[0]} <span className="soft">({v.split('\n').length - 1} lines)</span>
          </span>
          <Button
            type="button"
            size="compact-xs"
            variant="subtle"
            color="gray"
            onClick={() => props.set(props.values.filter((_, n) => n !== i))}
          >
            Remove
          </Button>
        </div>
      ))}
      {props.error && (
        <div className="tone-failed" style={{ fontSize: 12 }}>
          {props.error}
        </div>
      )}
    </div>
  );
}

const later = (days: number) => new Date(Date.now() + days * 86_400_000).toISOString();

function TakeOut(props: {
  what: string;
  name: string;
  pending: boolean;
  error: Error | null;
  close: () => void;
  act: () => void;
}) {
  const [typed, setTyped] = useState('');
  return (
    <Modal opened onClose={props.close} title={`Remove ${props.what} from the charter`}>
      <p className="soft" style={{ marginTop: 0 }}>
        Nothing runs for it any more and nothing of it expires. Its copies stay where they are; declared again, it has
        them back.
      </p>
      <TextInput
        label={`Type its name, ${props.name}`}
        value={typed}
        data-autofocus
        onChange={(e) => setTyped(e.currentTarget.value)}
      />
      <Problem error={props.error} />
      <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 16 }}>
        <Button variant="default" size="xs" onClick={props.close}>
          Cancel
        </Button>
        <Button
          size="xs"
          color="red.8"
          variant="outline"
          disabled={typed !== props.name}
          loading={props.pending}
          onClick={props.act}
        >
          Take it out
        </Button>
      </div>
    </Modal>
  );
}
