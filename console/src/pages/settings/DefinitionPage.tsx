import { Anchor, Button, Modal, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { api, take, type Fields, type Schemas } from '../../api/client';
import { useAct, useLanguage } from '../../api/hooks';
import { Answer, Page, Problem } from '../../ui/Page';
import { Effect } from './Effect';
import { Field } from './Field';
import { LogBench } from './LogBench';
import { Means } from './Means';
import { fieldSpecs, words } from './fieldSpecs';

/** One object of the charter as a form that shows its effect while somebody types; the difference comes before saving. */
export function DefinitionPage() {
  const { kind = '', name = '' } = useParams();
  const isNew = name === 'new';
  const language = useLanguage();
  const one = useQuery({
    queryKey: ['charter', 'definition', kind, name],
    enabled: !isNew,
    refetchOnWindowFocus: false,
    queryFn: () => take(api.GET('/api/v1/definitions/{kind}/{name}', { params: { path: { kind, name } } })),
  });
  const title =
    kind === 'settings' ? 'Settings of the charter' : isNew ? `New ${words(kind)}` : `${words(kind)} ${name}`;
  return (
    <Page title={title} facts={isNew ? 'nothing is saved until you press Save' : undefined}>
      <Answer of={language}>
        {(all) => {
          const takes = all.find((k) => k.kind === kind)?.keys ?? [];
          return isNew ? (
            <Form kind={kind} takes={takes} start={{}} tag={undefined} name={undefined} />
          ) : (
            <Answer of={one}>
              {(d) => <Form key={d.tag} kind={kind} takes={takes} name={name} start={d.fields} tag={d.tag} />}
            </Answer>
          );
        }}
      </Answer>
    </Page>
  );
}

function Form(props: {
  kind: string;
  takes: Schemas['CharterKeyAnswer'][];
  name: string | undefined;
  start: Fields;
  tag: string | undefined;
}) {
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
  // A key that the form has no words for yet is offered by its name.
  const worded = fieldSpecs[kind] ?? [];
  const specs = [
    ...worded,
    ...props.takes
      .filter((t) => !worded.some((w) => w.key === t.key))
      .map((t) => ({ key: t.key, label: t.key, rare: true })),
  ];
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
    <div className="columns wide-last">
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
            takes={props.takes.find((t) => t.key === s.key) ?? { key: s.key, list: false, of: null, choices: [] }}
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
        <RemoveDialog
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

const later = (days: number) => new Date(Date.now() + days * 86_400_000).toISOString();

function RemoveDialog(props: {
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
        Nothing runs for it any more, and none of its copies expire. They stay where they are; declare it again under
        the same name to have them back.
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
          Remove
        </Button>
      </div>
    </Modal>
  );
}
