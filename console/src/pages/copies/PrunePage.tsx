import { Button, SegmentedControl, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, take, type PrunePlan } from '../../api/client';
import { useAct, useJob, useRun } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { count, size } from '../../ui/format';
import { Answer, Notice, Page, Problem } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Rows } from '../../ui/Rows';
import { Status } from '../../ui/Status';
import { RunProgress } from '../runs/RunProgress';

/** What would go and what stays, with reasons, before anything goes. */
export function PrunePage() {
  const { name = '' } = useParams();
  const [params, set] = useFilters();
  const on = params.get('on') ?? undefined;
  const job = useJob({ name, on });
  const store = params.get('store') ?? job.data?.into[0];
  const day = params.get('as-of') ?? '';
  const plan = useQuery({
    queryKey: ['prune-plan', name, on, store, day],
    refetchOnWindowFocus: false,
    enabled: store !== undefined,
    queryFn: () =>
      take(
        api.POST('/api/v1/jobs/{name}/prune-plans', {
          params: {
            path: { name },
            query: { on, store, asOf: day ? new Date(`${day}T12:00`).toISOString() : undefined },
          },
        }),
      ),
  });
  return (
    <Page
      title="Prune plan"
      facts={
        plan.data && (
          <>
            <Link to={`/jobs/${name}${on ? `?on=${on}` : ''}`}>{name}</Link> in store {plan.data.store}, as of{' '}
            <When at={plan.data.asOf} />
          </>
        )
      }
      doing={
        <>
          {(job.data?.into.length ?? 0) > 1 && (
            <SegmentedControl
              size="xs"
              aria-label="Store"
              data={job.data?.into ?? []}
              value={store}
              onChange={(value) => set({ store: value })}
            />
          )}
          <TextInput
            size="xs"
            type="date"
            aria-label="As of which day"
            title="What the rules decide on another day"
            value={day}
            onChange={(e) => set({ 'as-of': e.currentTarget.value })}
          />
        </>
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
          Nothing of this job expires now; the reasons below say why.
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
      {plan.brake.length > 0 && (
        <Notice tone="warned" title="The brake holds this plan">
          {plan.brake.map((b) => (
            <div key={b}>{b}</div>
          ))}
        </Notice>
      )}
      {plan.fingerprint === null && (
        <Notice tone="warned">As of another day, over the copies of today: only to look at.</Notice>
      )}
      {going.length > 0 && plan.fingerprint !== null && <Carry plan={plan} going={going} />}
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
                <Link to={`/copies/${encodeURIComponent(c.copyId)}`} className="mono">
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
  const [reason, setReason] = useState('');
  const braked = plan.brake.length > 0;
  const fingerprint = plan.fingerprint ?? '';
  const apply = useAct(() =>
    take(
      api.POST('/api/v1/prune-plans/{fingerprint}/apply', {
        params: { path: { fingerprint }, query: { confirm: braked ? reason : undefined } },
      }),
    ),
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
    <section className="sheet" aria-label="Apply">
      <h2>Apply the plan</h2>
      <form
        style={{ padding: '11px 14px', display: 'flex', gap: 10, alignItems: 'flex-end', flexWrap: 'wrap' }}
        onSubmit={(e) => {
          e.preventDefault();
          apply.mutate(undefined);
        }}
      >
        <TextInput
          size="xs"
          w={220}
          label={
            <>
              Type the fingerprint <span className="mono">{fingerprint}</span>
            </>
          }
          value={typed}
          onChange={(e) => setTyped(e.currentTarget.value.trim())}
        />
        {braked && (
          <TextInput
            size="xs"
            w={260}
            label="Why the plan is right anyway"
            value={reason}
            onChange={(e) => setReason(e.currentTarget.value)}
          />
        )}
        <Button
          type="submit"
          size="xs"
          color="red.8"
          variant="outline"
          disabled={typed !== fingerprint || (braked && reason.trim().length < 3)}
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
