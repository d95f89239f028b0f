import { Button, Modal, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, take, type Definition, type Fields } from '../../api/client';
import { useAct } from '../../api/hooks';
import { usePresent } from '../../ui/Facts';
import { Answer, Problem } from '../../ui/Page';
import { Means } from '../settings/Means';

const day = (at: number) => new Date(at).toISOString().slice(0, 10);
const aDay = 86_400_000;

/** Takes a machine out of work, and asks what becomes of its copies. One that the charter does not have is declared with it. */
export function Retire(props: { machine: string; declared: boolean; owner: string | null; close: () => void }) {
  const path = { kind: 'machine', name: props.machine };
  const there = useQuery({
    queryKey: ['charter', 'definition', 'machine', props.machine],
    enabled: props.declared,
    queryFn: () => take(api.GET('/api/v1/definitions/{kind}/{name}', { params: { path } })),
  });
  return (
    <Modal opened onClose={props.close} title={`Retire ${props.machine}`}>
      {props.declared ? (
        <Answer of={there}>{(d) => <Form {...props} before={d} />}</Answer>
      ) : (
        <Form {...props} before={undefined} />
      )}
    </Modal>
  );
}

function Form(props: { machine: string; owner: string | null; before: Definition | undefined; close: () => void }) {
  const { now } = usePresent();
  const [until, setUntil] = useState(day(now + 365 * aDay));
  const [who, setWho] = useState(props.owner ?? '');
  const [decide, setDecide] = useState(day(now + 335 * aDay));
  const [agreed, setAgreed] = useState(false);
  const path = { kind: 'machine', name: props.machine };
  const fields: Fields = {
    ...props.before?.fields,
    retired: [day(now)],
    'copies-until': [until],
    'copies-owner': who.trim() ? [who.trim()] : [],
    'decide-by': [decide],
  };
  const [settled] = useDebouncedValue(JSON.stringify(fields), 300);
  const preview = useQuery({
    queryKey: ['preview', 'machine', props.machine, settled],
    placeholderData: (before) => before,
    queryFn: () =>
      take(
        api.POST('/api/v1/definitions/{kind}/{name}/preview', {
          params: { path },
          body: { fields: JSON.parse(settled) as Fields },
        }),
      ),
  });
  const retire = useAct(() =>
    take(
      api.PUT('/api/v1/definitions/{kind}/{name}', {
        params: { path, query: { confirm: agreed } },
        body: { fields },
        headers: props.before ? { 'If-Match': props.before.tag } : { 'If-None-Match': '*' },
      }),
    ),
  );
  const means = preview.data?.consequences ?? [];
  const mistakes = who.trim() ? (preview.data?.mistakes ?? []) : [];
  const ready = preview.data && who.trim() && mistakes.length === 0 && (means.length === 0 || agreed);
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        retire.mutate(undefined, { onSuccess: props.close });
      }}
    >
      <p className="soft" style={{ marginTop: 0 }}>
        No job is done there any more. None of its copies expires by itself; whoever owns them says in time what becomes
        of them.
      </p>
      <TextInput
        label="Its copies are kept until"
        type="date"
        required
        value={until}
        onChange={(e) => setUntil(e.currentTarget.value)}
      />
      <TextInput
        label="Who decides about them"
        required
        data-autofocus
        value={who}
        onChange={(e) => setWho(e.currentTarget.value)}
      />
      <TextInput
        label="Decided by"
        type="date"
        required
        value={decide}
        onChange={(e) => setDecide(e.currentTarget.value)}
      />
      {mistakes.map((m) => (
        <p key={m.message} className="tone-failed">
          {m.message}
        </p>
      ))}
      {who.trim() && <Means of={means} agreed={agreed} agree={setAgreed} />}
      <Problem error={retire.error} />
      <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 16 }}>
        <Button variant="default" size="xs" onClick={props.close}>
          Cancel
        </Button>
        <Button type="submit" size="xs" loading={retire.isPending} disabled={!ready}>
          Retire
        </Button>
      </div>
    </form>
  );
}
