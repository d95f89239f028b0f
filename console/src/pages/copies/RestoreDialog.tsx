import { Button, Modal, Radio, TextInput } from '@mantine/core';
import { useState } from 'react';
import { api, take, type Copy } from '../../api/client';
import { useAct, useRun, useRunLog } from '../../api/hooks';
import { Problem } from '../../ui/Page';
import { Status } from '../../ui/Status';
import { RunProgress } from '../runs/RunProgress';

const rules = [
  { value: 'keep', label: 'Keep it and report it' },
  { value: 'beside', label: 'Put the restored file beside it' },
  { value: 'overwrite', label: 'Overwrite it' },
];

/** Restoring in three steps: what, where to, and the report of what came back. */
export function RestoreDialog({ copy, paths, close }: { copy: Copy; paths: string[]; close: () => void }) {
  const [to, setTo] = useState('');
  const [existing, setExisting] = useState('keep');
  const begin = useAct((target: string) =>
    take(
      api.POST('/api/v1/copies/{id}/restores', {
        params: { path: { id: copy.id } },
        body: { paths, to: target, existing },
      }),
    ),
  );
  const step = (n: number, title: string) => (
    <h3 className="step-title">
      <span>{n}</span> {title}
    </h3>
  );
  return (
    <Modal opened onClose={close} title="Restore" size="lg">
      {begin.data ? (
        <>
          {step(3, 'What came back')}
          <Report runId={begin.data.id} close={close} />
        </>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            begin.mutate(to);
          }}
        >
          {step(1, paths.length === 0 ? 'Everything in this copy' : 'From this copy')}
          <div className="mono" style={{ maxHeight: 140, overflow: 'auto', marginBottom: 14 }}>
            {paths.length === 0 ? copy.id : paths.map((p) => <div key={p}>{p}</div>)}
          </div>
          {step(2, 'Where to')}
          <TextInput
            label={`Restore to this folder on ${copy.machine}`}
            description="Original paths are recreated below it, and it is created if missing. Use “/” to put files back where they came from."
            placeholder="/srv/restored"
            required
            data-autofocus
            value={to}
            onChange={(e) => setTo(e.currentTarget.value)}
          />
          <Radio.Group label="If a file already exists" mt="sm" value={existing} onChange={setExisting}>
            <div style={{ display: 'flex', gap: 16, flexWrap: 'wrap', marginTop: 4 }}>
              {rules.map((r) => (
                <Radio key={r.value} size="xs" value={r.value} label={r.label} />
              ))}
            </div>
          </Radio.Group>
          <Problem error={begin.error} />
          <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 16 }}>
            <Button variant="default" size="xs" onClick={close}>
              Cancel
            </Button>
            <Button type="submit" size="xs" loading={begin.isPending}>
              Restore
            </Button>
          </div>
        </form>
      )}
    </Modal>
  );
}

function Report({ runId, close }: { runId: number; close: () => void }) {
  const run = useRun(runId);
  const log = useRunLog(run.data);
  const r = run.data;
  return (
    <>
      {r && r.state !== 'ended' && <RunProgress run={r} />}
      {r?.state === 'ended' && (
        <>
          <Status state={r.outcome ?? ''} /> <div style={{ marginTop: 6 }}>{r.sentence}</div>
          {log.data?.lines
            .filter((l) => l.severity !== 'info' && l.text !== r.sentence)
            .map((l, i) => (
              <div key={i} className="mono tone-warned">
                {l.text}
              </div>
            ))}
        </>
      )}
      <div style={{ display: 'flex', justifyContent: 'flex-end', marginTop: 16 }}>
        <Button size="xs" onClick={close}>
          Done
        </Button>
      </div>
    </>
  );
}
