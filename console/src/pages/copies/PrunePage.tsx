import { Button, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, take, type PrunePlan } from '../../api/client';
import { useAct, useRun } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { count, size } from '../../ui/format';
import { Answer, Notice, Page, Problem } from '../../ui/Page';
import { Rows } from '../../ui/Rows';
import { Status } from '../../ui/Status';
import { RunProgress } from '../runs/RunProgress';

/** What would go and what stays, with reasons, before anything goes. */
export function PrunePage() {
  const { name = '' } = useParams();
  const plan = useQuery({
    queryKey: ['prune-plan', name],
    refetchOnWindowFocus: false,
    queryFn: () => take(api.POST('/api/v1/jobs/{name}/prune-plans', { params: { path: { name } } })),
  });
  return (
    <Page
      title="Prune plan"
      facts={
        plan.data && (
          <>
            <Link to={`/jobs/${name}`}>{name}</Link> in store {plan.data.store}, as of <When at={plan.data.asOf} />
          </>
        )
      }
    >
      <Answer of={plan}>{(p) => <Plan plan={p} />}</Answer>
    </Page>
  );
}

function Plan({ plan }: { plan: PrunePlan }) {
  const going = plan.copies.filter((c) => c.verdict === 'expire');
  return (
    <div className="columns">
      {plan.frozen && (
        <Notice tone="warned" title="Frozen">
          The newest good copy is older than the job promised, so nothing of this job expires until a run succeeds.
        </Notice>
      )}
      <section className="sheet" aria-label="Summary">
        <div className="sum">
          <span>
            <b>{going.length}</b>
            {going.length === 1 ? 'goes' : 'go'} to the bin for {plan.bin}
          </span>
          <span>
            <b>{plan.copies.length - going.length}</b>stay
          </span>
          <span className="soft">
            by “{plan.policy}”, at least {plan.atLeast}
          </span>
        </div>
      </section>
      {going.length > 0 && <Carry plan={plan} going={going} />}
      <section className="sheet" aria-label="Copies with verdicts">
        <Rows
          label="Copies with verdicts"
          rows={plan.copies}
          rowKey={(c) => c.copyId}
          empty="This job has no copies yet; run it first."
          columns={[
            {
              title: 'copy',
              cell: (c) => (
                <Link to={`/copies/${c.copyId}`} className="mono">
                  {c.copyId}
                </Link>
              ),
            },
            { title: 'taken', cell: (c) => <When at={c.taken} /> },
            { title: 'state', cell: (c) => <Status state={c.state} /> },
            { title: 'verdict', cell: (c) => <Status state={c.verdict} /> },
            { title: 'size', num: true, cell: (c) => <Size bytes={c.bytes} /> },
            { title: 'why', cell: (c) => <span className="soft">{c.reasons.join('; ')}</span> },
          ]}
        />
      </section>
    </div>
  );
}

function Carry({ plan, going }: { plan: PrunePlan; going: PrunePlan['copies'] }) {
  const [typed, setTyped] = useState('');
  const apply = useAct((fingerprint: string) =>
    take(api.POST('/api/v1/prune-plans/{fingerprint}/apply', { params: { path: { fingerprint } } })),
  );
  const run = useRun(apply.data?.id);
  const total = going.reduce((sum, c) => sum + c.storedBytes, 0);
  if (apply.data) {
    return (
      <section className="sheet" style={{ padding: '11px 14px' }}>
        {run.data && run.data.state !== 'ended' ? (
          <RunProgress run={run.data} />
        ) : (
          <>
            {run.data && <Status state={run.data.outcome ?? ''} />} {run.data?.sentence}
          </>
        )}
      </section>
    );
  }
  return (
    <section className="sheet" aria-label="Carry out">
      <h2>Carry it out</h2>
      <form
        style={{ padding: '11px 14px', display: 'flex', gap: 10, alignItems: 'flex-end', flexWrap: 'wrap' }}
        onSubmit={(e) => {
          e.preventDefault();
          apply.mutate(plan.fingerprint);
        }}
      >
        <TextInput
          size="xs"
          w={220}
          label={
            <>
              Type the fingerprint <span className="mono">{plan.fingerprint}</span>
            </>
          }
          value={typed}
          onChange={(e) => setTyped(e.currentTarget.value.trim())}
        />
        <Button
          type="submit"
          size="xs"
          color="red.8"
          variant="outline"
          disabled={typed !== plan.fingerprint}
          loading={apply.isPending}
        >
          Move {count(going.length, 'copy', 'copies')} to the bin
        </Button>
        <span className="soft">
          about {size(total)} were stored for them; the bytes are freed after {plan.bin} in the bin
        </span>
      </form>
      <Problem error={apply.error} />
    </section>
  );
}
