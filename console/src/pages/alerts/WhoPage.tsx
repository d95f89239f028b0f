import { Button, Select, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type Schemas } from '../../api/client';
import { useJobs } from '../../api/hooks';
import { usePresent, When } from '../../ui/Facts';
import { exact, short } from '../../ui/format';
import { Answer, Empty, Page } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Status } from '../../ui/Status';
import { stakes } from './stakes';

type Recipient = Schemas['WhoRecipient'];

/** Who would be told of what, and when, before anything happens; and whose turn it is. */
export function WhoPage() {
  const { zone } = usePresent();
  const [params, set] = useFilters();
  const [job, at] = [params.get('job'), params.get('at') ?? ''];
  const jobs = useJobs();
  // What is typed is the time of this browser, as its own field for times gives it.
  const instant = at === '' || Number.isNaN(Date.parse(at)) ? undefined : new Date(at).toISOString();
  const who = useQuery({
    queryKey: ['who', job, instant],
    placeholderData: (before) => before,
    queryFn: () => take(api.GET('/api/v1/telling/who', { params: { query: { job: job ?? undefined, at: instant } } })),
  });
  return (
    <Page
      title="Who is told"
      facts={who.data && `${who.data.of}, ${exact(who.data.at, zone)}`}
      doing={
        <>
          <Select
            size="xs"
            w={200}
            clearable
            searchable
            placeholder="No job in particular"
            aria-label="Job"
            data={[...new Set((jobs.data ?? []).map((j) => j.name))]}
            value={job}
            onChange={(value) => set({ job: value })}
          />
          <TextInput
            type="datetime-local"
            size="xs"
            w={190}
            aria-label="At"
            value={at}
            onChange={(e) => set({ at: e.currentTarget.value || null })}
          />
          <Button component={Link} to="/settings/route/new" size="xs" variant="default">
            New route
          </Button>
        </>
      }
    >
      <div className="columns aside">
        <section className="sheet" aria-label="Who would be told">
          <Answer of={who}>
            {(answer) => (
              <>
                {answer.maintenance && (
                  <p className="padded">
                    <Status state="held-back">{answer.maintenance}</Status> Nothing is told before it is over.
                  </p>
                )}
                {answer.cases.map((c) => (
                  <div key={c.classes.join()} className="who-case">
                    <h3>
                      {stakes[c.severity]} <span className="soft">{c.classes.join(', ')}</span>
                    </h3>
                    {c.to.length === 0 && <Status state="failed">Nobody is told.</Status>}
                    <Recipients of={c.to} />
                    {c.then.map((t) => (
                      <div key={t.route}>
                        <p className="soft who-then">
                          Unless somebody has seen it <When at={t.at} />, route {t.route} tells as well:
                        </p>
                        <Recipients of={t.to} />
                      </div>
                    ))}
                  </div>
                ))}
                {answer.runEnds.length > 0 && (
                  <div className="who-case">
                    <h3>every run that ends well</h3>
                    <Recipients of={answer.runEnds} />
                  </div>
                )}
              </>
            )}
          </Answer>
        </section>
        <Rotas />
      </div>
    </Page>
  );
}

const Recipients = ({ of }: { of: Recipient[] }) => (
  <ul className="who">
    {of.map((r) => (
      <li key={`${r.channel} ${r.to}`}>
        <b>{r.person ?? r.channel}</b>{' '}
        <span className="soft">
          {r.person && `through ${r.channel} `}to {r.to}
        </span>
        {r.gatheredWith && (
          <>
            , told <When at={r.toldAt} /> with others
          </>
        )}
        <div className="soft">{r.why}</div>
      </li>
    ))}
  </ul>
);

/** Whose turn it is in the coming weeks, and the hours in which a route finds nobody. */
function Rotas() {
  const { now, zone } = usePresent();
  const rotas = useQuery({
    queryKey: ['rotas'],
    queryFn: () => take(api.GET('/api/v1/telling/rotas', { params: { query: { weeks: 5 } } })),
  });
  return (
    <section className="sheet" aria-label="Rotas">
      <h2>Rotas</h2>
      <Answer of={rotas}>
        {(answer) => (
          <>
            {answer.rotas.length === 0 && <Empty>No rota is declared. One says which people take turns.</Empty>}
            {answer.rotas.map((r) => (
              <div key={r.name} className="who-case">
                <h3>
                  <Link to={`/settings/rota/${r.name}`}>{r.name}</Link>{' '}
                  <span className="soft">
                    changes {r.changes}
                    {r.standIn && `, ${r.standIn} stands in`}
                  </span>
                </h3>
                <ol className="who">
                  {r.turns.map((t) => (
                    <li key={t.from ?? 'first'} aria-current={isNow(t, now) || undefined}>
                      <b>{t.person}</b>{' '}
                      <span className="soft">
                        {t.until ? `until ${short(t.until, zone)}` : 'from then on'}
                        {t.whyNot && `, who ${t.whyNot} as it begins`}
                      </span>
                    </li>
                  ))}
                </ol>
              </div>
            ))}
            {answer.holes.map((h) => (
              <p key={`${h.route} ${h.from}`} className="padded">
                <Status state="warned">Route {h.route} finds nobody</Status> within their hours from{' '}
                {short(h.from, zone)} to {short(h.until, zone)}. Whoever is on duty is told all the same.
              </p>
            ))}
          </>
        )}
      </Answer>
    </section>
  );
}

const isNow = (t: Schemas['TurnAnswer'], now: number) =>
  (!t.from || Date.parse(t.from) <= now) && (!t.until || Date.parse(t.until) > now);
