import { useNavigate } from 'react-router';
import { useCopyCounts } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { Answer } from '../../ui/Page';
import { Rows } from '../../ui/Rows';

interface OfMachine {
  machine: string;
  jobs: Set<string>;
  stores: Set<string>;
  count: number;
  oldest: string;
  newest: string;
}

/** How many copies there are of each machine, of which jobs and where. */
export function ByMachine({ job, store, machine }: Record<'job' | 'store' | 'machine', string | undefined>) {
  const counts = useCopyCounts(machine);
  const navigate = useNavigate();
  const list = (of: Set<string>) => {
    const [first, second, ...more] = [...of].sort();
    return second === undefined
      ? first
      : more.length === 0
        ? `${first} and ${second}`
        : `${first} and ${of.size - 1} more`;
  };
  return (
    <Answer of={counts}>
      {(all) => {
        const machines = new Map<string, OfMachine>();
        for (const c of all) {
          if ((job && c.job !== job) || (store && c.store !== store)) continue;
          const of = machines.get(c.machine);
          if (!of) {
            machines.set(c.machine, { ...c, jobs: new Set([c.job]), stores: new Set([c.store]) });
            continue;
          }
          of.jobs.add(c.job);
          of.stores.add(c.store);
          of.count += c.count;
          if (c.newest > of.newest) of.newest = c.newest;
          if (c.oldest < of.oldest) of.oldest = c.oldest;
        }
        return (
          <div className="sheet">
            <Rows
              label="Copies by machine"
              rows={[...machines.values()].sort((a, b) => a.machine.localeCompare(b.machine))}
              rowKey={(m) => m.machine}
              open={(m) => {
                const only = new URLSearchParams({ machine: m.machine });
                if (job) only.set('job', job);
                if (store) only.set('store', store);
                void navigate(`/copies?${only.toString()}`);
              }}
              empty="No machine has a copy that fits."
              columns={[
                { title: 'machine', cell: (m) => <span className="name">{m.machine}</span> },
                { title: 'jobs', cell: (m) => <span className="name">{list(m.jobs)}</span> },
                { title: 'stores', cell: (m) => <span className="name">{list(m.stores)}</span> },
                { title: 'copies', num: true, cell: (m) => m.count.toLocaleString('en') },
                { title: 'oldest', cell: (m) => <When at={m.oldest} /> },
                { title: 'newest', cell: (m) => <When at={m.newest} /> },
              ]}
            />
          </div>
        );
      }}
    </Answer>
  );
}
