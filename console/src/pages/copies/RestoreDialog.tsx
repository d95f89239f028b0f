import { Button, Modal, NativeSelect, Radio, TextInput } from '@mantine/core';
import { useState } from 'react';
import { api, take, type Copy } from '../../api/client';
import { useAct, useMachines, useRun, useRunLog } from '../../api/hooks';
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
  const [chosen, setChosen] = useState<string>();
  const [reason, setReason] = useState('');
  const known = useMachines();
  const machines = known.data?.machines ?? [];
  const own = machines.find((m) => m.own)?.name;
  const places = machines.filter((m) => m.own || m.state === 'joined').map((m) => m.name);
  const machine = chosen ?? (places.includes(copy.machine) ? copy.machine : own);
  const needsReason = machine !== own && machine !== copy.machine;
  const begin = useAct((target: string) =>
    take(
      api.POST('/api/v1/copies/{id}/restores', {
        params: { path: { id: copy.id } },
        body: { paths, to: target, existing, machine: machine ?? null, reason: needsReason ? reason : null },
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
          {places.length > 1 && (
            <NativeSelect
              label="Machine"
              description="The one that the service runs on, and all whose agent has joined."
              mb="sm"
              data={places}
              value={machine}
              onChange={(e) => setChosen(e.currentTarget.value)}
            />
          )}
          {needsReason && (
            <TextInput
              label="Reason"
              description={`This copy is of ${copy.machine}: whoever is on ${machine} could then read it. The reason is kept with the run.`}
              mb="sm"
              required
              value={reason}
              onChange={(e) => setReason(e.currentTarget.value)}
            />
          )}
          <TextInput
            label={`Restore to this folder on ${machine ?? copy.machine}`}
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
            <Button type="submit" size="xs" loading={begin.isPending} disabled={known.isPending}>
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
