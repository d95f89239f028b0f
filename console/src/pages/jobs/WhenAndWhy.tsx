import { TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type Schemas } from '../../api/client';
import { Answer } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Status } from '../../ui/Status';

/** When a job was and will be due around a date: what was dropped or shifted and why, and what became of each. */
export function WhenAndWhy({ name, on }: { name: string; on: string | undefined }) {
  const [params, set] = useFilters();
  const date = params.get('as-of') ?? '';
  const asOf = date ? new Date(`${date}T12:00`).toISOString() : undefined;
  const when = useQuery({
    queryKey: ['jobs', name, on, 'when', asOf],
    placeholderData: (before) => before,
    queryFn: () => take(api.GET('/api/v1/jobs/{name}/when', { params: { path: { name }, query: { asOf, on } } })),
  });
  return (
    <section className="sheet" aria-label="When and why">
      <h2 style={{ alignItems: 'center' }}>
        When and why <span className="facts">{when.data?.words}</span>
        <TextInput
          size="xs"
          type="date"
          aria-label="Around this date"
          value={date}
          ml="auto"
          onChange={(e) => set({ 'as-of': e.currentTarget.value || null })}
        />
      </h2>
      <Answer of={when}>
        {(w) => (
          <>
            {w.facts.map((f) => (
              <div key={f} className="soft" style={{ padding: '6px 14px' }}>
                {f.charAt(0).toUpperCase() + f.slice(1)}.
              </div>
            ))}
            <table className="rows">
              <thead>
                <tr>
                  <th scope="col">local</th>
                  <th scope="col">UTC</th>
                  <th scope="col">outcome</th>
                  <th scope="col">why</th>
                </tr>
              </thead>
              <tbody>
                {w.before.map((d) => (
                  <Row key={`${d.utc} ${d.dropped}`} due={d} />
                ))}
                <tr>
                  <td colSpan={4} className="soft" style={{ borderTop: '2px solid var(--lamp)' }}>
                    {date ? `noon of ${date}` : 'now'}
                  </td>
                </tr>
                {w.after.map((d) => (
                  <Row key={`${d.utc} ${d.dropped}`} due={d} />
                ))}
              </tbody>
            </table>
          </>
        )}
      </Answer>
    </section>
  );
}

function Row({ due: d }: { due: Schemas['DueWhy'] }) {
  const state = d.dropped ? 'dropped' : d.outcome;
  return (
    <tr>
      <td style={{ whiteSpace: 'nowrap' }}>
        {d.local.slice(0, 16).replace('T', ' ')} {d.local.slice(19)}
      </td>
      <td className="soft" style={{ whiteSpace: 'nowrap' }}>
        {d.utc.slice(0, 16).replace('T', ' ')}
      </td>
      <td>
        {state && <Status state={d.dropped ? 'cancelled' : state}>{state}</Status>}{' '}
        {d.runId && <Link to={`/runs/${d.runId}`}>run {d.runId}</Link>}
      </td>
      <td className="soft">{[d.why, d.outcome === 'ok' && d.runId ? null : d.reason].filter(Boolean).join('; ')}</td>
    </tr>
  );
}
