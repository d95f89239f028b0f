import { Button, Modal, Radio } from '@mantine/core';
import { useState } from 'react';
import type { Schemas } from '../../api/client';
import { useRerun, useRerunPreview, useWaitForNext } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Answer, Notice, Problem } from '../../ui/Page';

type Job = Schemas['AlertRerunJob'];

/** Asks once how to run again what an alert is about, and says what will happen. */
export function RerunDialog({ id, job, close }: { id: number; job?: string; close: () => void }) {
  const preview = useRerunPreview(id, job);
  return (
    <Modal opened onClose={close} title="Run again" size="lg">
      <Answer of={preview}>{(p) => <Choice id={id} job={job} jobs={p.jobs} close={close} />}</Answer>
    </Modal>
  );
}

function Choice({ id, job, jobs, close }: { id: number; job?: string; jobs: Job[]; close: () => void }) {
  const rerun = useRerun();
  const wait = useWaitForNext();
  const [settings, setSettings] = useState<'today' | 'then'>('today');
  const [when, setWhen] = useState<'now' | 'window'>('now');
  const can = jobs.filter((j) => j.refused === null);
  const changed = can.filter((j) => j.changes.length > 0);
  const quiet = can.filter((j) => j.windowOpens !== null);
  const next = can.map((j) => j.nextDue);
  return (
    <>
      {can.length > 0 && (
        <p className="rerun-says">
          Runs {can.length === 1 ? can[0]?.job : count(can.length, 'job')} again. The alert follows to the end and
          closes when it went well.
        </p>
      )}
      {jobs
        .filter((j) => j.refused !== null)
        .map((j) => (
          <Notice key={j.job} tone="warned">
            {j.refused}
          </Notice>
        ))}
      {changed.length > 0 && (
        <>
          <Radio.Group label="Settings" value={settings} onChange={(v) => setSettings(v === 'then' ? 'then' : 'today')}>
            <Radio size="xs" mt={6} value="today" label="Today’s" />
            <Radio size="xs" mt={6} value="then" label="Those of the run that failed" />
          </Radio.Group>
          <table className="plain rerun-changes">
            <thead>
              <tr>
                <th>Changed since</th>
                <th>Then</th>
                <th>Today</th>
              </tr>
            </thead>
            <tbody>
              {changed.flatMap((j) =>
                j.changes.map((c) => (
                  <tr key={`${j.job} ${c.field}`}>
                    <td>
                      {can.length > 1 && `${j.job}: `}
                      {c.field}
                    </td>
                    <td>{c.before ?? 'not set'}</td>
                    <td>{c.after ?? 'not set'}</td>
                  </tr>
                )),
              )}
            </tbody>
          </table>
        </>
      )}
      {quiet.length > 0 && (
        <Radio.Group label="When" mt="sm" value={when} onChange={(v) => setWhen(v === 'window' ? 'window' : 'now')}>
          <Radio size="xs" mt={6} value="now" label="Now, in its quiet time" />
          <Radio
            size="xs"
            mt={6}
            value="window"
            label={
              <>
                When {quiet.length === 1 ? quiet[0]?.window : 'their quiet hours'} end
                {quiet.length === 1 ? 's' : ''} (<When at={quiet[0]?.windowOpens ?? null} />)
              </>
            }
          />
        </Radio.Group>
      )}
      {rerun.data && rerun.data.refused.length > 0 && <Notice tone="warned">{rerun.data.refused.join('. ')}.</Notice>}
      <Problem error={rerun.error ?? wait.error} />
      <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 16 }}>
        <Button variant="default" size="xs" onClick={close}>
          Cancel
        </Button>
        {job === undefined && next.length > 0 && next.every((n) => n !== null) && (
          <Button
            variant="default"
            size="xs"
            loading={wait.isPending}
            onClick={() => wait.mutate(id, { onSuccess: close })}
          >
            Wait for the next run ({next.length === 1 ? <When at={next[0] ?? null} /> : 'of each'})
          </Button>
        )}
        {can.length > 0 && (
          <Button
            size="xs"
            data-autofocus
            loading={rerun.isPending}
            onClick={() =>
              rerun.mutate(
                { id, job, settings, when },
                {
                  onSuccess: (a) => {
                    if (a.refused.length === 0) close();
                  },
                },
              )
            }
          >
            Run again
          </Button>
        )}
      </div>
    </>
  );
}
