import { Button, FileInput, Modal, Textarea, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, take, type Schemas } from '../../api/client';
import { useAct } from '../../api/hooks';
import { count } from '../../ui/format';
import { Answer, Problem } from '../../ui/Page';
import { Status } from '../../ui/Status';
import { Means } from '../settings/Means';
import { Reach } from '../settings/Reach';

type Import = Schemas['ImportAnswer'];

/** Brings the machines of a list into the charter, again and again; shows first who comes, goes and changes. */
export function ImportMachines({ close }: { close: () => void }) {
  const [text, setText] = useState('');
  const [source, setSource] = useState('inventory');
  const [agreed, setAgreed] = useState(false);
  const [unread, setUnread] = useState<Error | null>(null);
  const [settled] = useDebouncedValue(text, 300);
  const body = { text, source };
  const preview = useQuery({
    queryKey: ['import', source, settled],
    enabled: settled.trim() !== '' && source.trim() !== '',
    placeholderData: (before) => before,
    queryFn: () => take(api.POST('/api/v1/machines-import/preview', { body: { text: settled, source } })),
  });
  const bring = useAct((revision: number) =>
    take(api.POST('/api/v1/machines-import', { params: { query: { revision, confirm: agreed } }, body })),
  );
  const answer = text.trim() === '' ? undefined : preview.data;
  const ready =
    answer !== undefined &&
    settled === text &&
    !preview.isFetching &&
    answer.mistakes.length === 0 &&
    answer.comes.length + answer.changes.length > 0 &&
    (answer.consequences.length === 0 || agreed);
  const read = async (file: File | null) => {
    setUnread(null);
    try {
      if (file) setText(await file.text());
    } catch (e) {
      setUnread(e as Error);
    }
  };
  return (
    <Modal opened onClose={close} title="Import machines" size="xl">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (answer) bring.mutate(answer.revision, { onSuccess: close });
        }}
      >
        <p className="soft" style={{ marginTop: 0 }}>
          A table with a header, as CSV, or what an inventory writes as JSON. Columns are known by their names: name,
          site, owner, tags and importance. Import it again whenever it has changed.
        </p>
        <FileInput size="xs" label="From a file" placeholder="Choose a file" onChange={(f) => void read(f)} />
        <Textarea
          label="The list"
          autosize
          minRows={4}
          maxRows={10}
          data-autofocus
          placeholder={'name,site,owner,tags\ncurlew,hides,mira,cameras'}
          value={text}
          onChange={(e) => setText(e.currentTarget.value)}
          styles={{ input: { fontFamily: 'var(--mono)' } }}
        />
        <TextInput
          size="xs"
          label="What the list is called"
          description="Machines that this list brought before, and that are not in it any more, are named."
          value={source}
          onChange={(e) => setSource(e.currentTarget.value)}
        />
        {text.trim() !== '' && <Answer of={preview}>{(a) => <What of={a} />}</Answer>}
        {answer && <Means of={answer.consequences} agreed={agreed} agree={setAgreed} />}
        <Problem error={bring.error ?? unread} />
        <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 16 }}>
          <Button variant="default" size="xs" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" size="xs" loading={bring.isPending} disabled={!ready}>
            Bring them in
          </Button>
        </div>
      </form>
    </Modal>
  );
}

const shown = 30;

function Names({ of }: { of: string[] }) {
  return (
    <>
      {of.slice(0, shown).join(', ')}
      {of.length > shown && ` and ${of.length - shown} more`}
    </>
  );
}

function What({ of }: { of: Import }) {
  if (of.mistakes.length > 0)
    return (
      <div role="alert" style={{ marginTop: 12 }}>
        {of.mistakes.slice(0, shown).map((m) => (
          <p key={`${m.line} ${m.about} ${m.message}`} className="tone-failed" style={{ margin: '2px 0' }}>
            {m.line > 0 && `Line ${m.line}: `}
            {m.about}: {m.message}
          </p>
        ))}
      </div>
    );
  return (
    <section aria-label="What it means" style={{ marginTop: 12 }}>
      <p style={{ margin: '0 0 6px' }}>
        {count(of.listed, 'machine')} listed: {of.comes.length} would come, {of.changes.length} would change,{' '}
        {of.goes.length} {of.goes.length === 1 ? 'is' : 'are'} not listed any more.
      </p>
      {of.comes.length > 0 && (
        <div>
          <Status state="taken">Comes</Status> <Names of={of.comes} />
        </div>
      )}
      {of.changes.slice(0, shown).map((c) => (
        <div key={c.machine}>
          <Status state="held">Changes</Status> {c.machine}:{' '}
          {c.fields.map((f) => `${f.field} ${f.before ?? 'nothing'} → ${f.after ?? 'nothing'}`).join('; ')}
        </div>
      ))}
      {of.goes.length > 0 && (
        <div>
          <Status state="warned">Not listed</Status> <Names of={of.goes} />. They stay as they are; retire them where
          they are gone.
        </div>
      )}
      {of.retired.length > 0 && (
        <div>
          <Status state="warned">Retired</Status> <Names of={of.retired} />, although listed.
        </div>
      )}
      {of.notUsed.length > 0 && (
        <p className="soft" style={{ margin: '6px 0' }}>
          Nothing is made of {count(of.notUsed.length, 'column')}: {of.notUsed.join(', ')}.
        </p>
      )}
      <Reach of={of.reach} changes={[]} />
    </section>
  );
}
