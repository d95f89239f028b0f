import type { Job } from '../../api/client';
import { useJob, type OneJob } from '../../api/hooks';
import { Answer } from '../../ui/Page';
import { Rows } from '../../ui/Rows';

const from: Record<string, string> = {
  job: 'the job',
  charter: 'the charter',
  machine: 'the machine',
  usual: 'usual',
};

/** The same of a job that only its name and machine are known of. */
export function JobValuesOf({ of }: { of: OneJob }) {
  const job = useJob(of);
  return <Answer of={job}>{(j) => <JobValues job={j} />}</Answer>;
}

/** Every value that holds for a job on its machine, and where it comes from. */
export function JobValues({ job }: { job: Job }) {
  return (
    <section className="sheet" aria-label="Values">
      <h2>
        Values on {job.machine}{' '}
        {job.onSeveral && <span className="facts">one of several machines: {job.onSeveral}</span>}
      </h2>
      <Rows
        label="Values"
        rows={job.values ?? []}
        rowKey={(v) => v.key}
        empty="Nothing is said of it."
        columns={[
          { title: 'value', cell: (v) => v.key },
          { title: 'is', cell: (v) => v.text },
          {
            title: 'from',
            cell: (v) => <span className={v.from === 'usual' ? 'soft' : ''}>{from[v.from] ?? v.from}</span>,
          },
        ]}
      />
    </section>
  );
}
