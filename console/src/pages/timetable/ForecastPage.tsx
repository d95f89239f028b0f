import { Button, SegmentedControl, Switch } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate } from 'react-router';
import { api, take, type Schemas } from '../../api/client';
import { Size, usePresent } from '../../ui/Facts';
import { count, took } from '../../ui/format';
import { Answer, Page } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Rows } from '../../ui/Rows';
import { Glyph } from '../../ui/Status';
import { SpacePlot } from './SpacePlot';

type Forecast = Schemas['ForecastAnswer'];

const graveKinds = ['store-full', 'promise-broken', 'media-short', 'starts-late', 'never-due'];
const kindGlyph = (kind: string) => (graveKinds.includes(kind) ? 'failed' : kind === 'unknown' ? 'suspect' : 'warned');

/** What will go wrong, then the space of every store, then what it all rests on. */
export function ForecastPage() {
  const [params, set] = useFilters();
  const days = Number(params.get('days') ?? 365);
  const all = params.get('prune') === 'all';
  const forecast = useQuery({
    queryKey: ['forecast', days, all],
    placeholderData: (before) => before,
    staleTime: 60_000,
    queryFn: () => take(api.POST('/api/v1/forecast', { body: { days, prunesByHandToo: all } })),
  });
  return (
    <Page
      title="Forecast"
      facts={forecast.data && `${count(forecast.data.runs, 'run')} played over ${count(forecast.data.days, 'day')}`}
      doing={
        <>
          <Button size="xs" variant="default" component={Link} to="/timetable">
            Timetable
          </Button>
          <Switch
            size="xs"
            label="as if everything were pruned"
            checked={all}
            onChange={(e) => set({ prune: e.currentTarget.checked ? 'all' : null })}
            style={{ alignSelf: 'center' }}
          />
          <SegmentedControl
            size="xs"
            aria-label="How far ahead"
            value={String(days)}
            onChange={(value) => set({ days: value })}
            data={[
              { value: '30', label: '30 days' },
              { value: '90', label: '90 days' },
              { value: '365', label: '1 year' },
              { value: '1095', label: '3 years' },
            ]}
          />
        </>
      }
    >
      <Answer of={forecast}>
        {(f) => (
          <div className="columns">
            <div className="pair">
              <Findings forecast={f} />
              <section className="sheet" aria-label="Space">
                <h2>
                  Space <span className="facts">space used, the share of the bin, and the limit</span>
                </h2>
                {f.stores.map((s) => (
                  <SpacePlot
                    key={s.store}
                    store={s}
                    dates={f.dates}
                    full={
                      f.findings.find((x) => x.kind === 'store-full' && x.subject === `store ${s.store}`)?.at ?? null
                    }
                  />
                ))}
              </section>
            </div>
            <Jobs forecast={f} />
          </div>
        )}
      </Answer>
    </Page>
  );
}

function Findings({ forecast: f }: { forecast: Forecast }) {
  const { zone } = usePresent();
  const date = (at: string) =>
    new Date(at).toLocaleDateString('en-GB', { timeZone: zone, day: 'numeric', month: 'short', year: 'numeric' });
  return (
    <section className="sheet narrow" aria-label="Findings">
      <h2>{f.findings.length === 0 ? 'Nothing goes wrong' : count(f.findings.length, 'finding')}</h2>
      {f.findings.length === 0 && (
        <div className="empty">Nothing goes wrong: every run fits, and every promise is kept.</div>
      )}
      {f.findings.map((x, i) => (
        <div key={i} className="alert-item">
          <Glyph state={kindGlyph(x.kind)} label={x.kind.replaceAll('-', ' ')} />
          <div>
            <span className="what">
              {x.at ? <>{date(x.at)}: </> : null}
              {x.subject}
            </span>
            <p>{x.message}.</p>
            <p className="soft">{capital(x.remedy)}.</p>
          </div>
        </div>
      ))}
    </section>
  );
}

const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

function Jobs({ forecast: f }: { forecast: Forecast }) {
  const navigate = useNavigate();
  return (
    <section className="sheet" aria-label="What it rests on">
      <h2>
        What it rests on{' '}
        <span className="facts">from each job’s own runs, or from what its charter expects; bytes as stored</span>
      </h2>
      <Rows
        label="Jobs"
        rows={f.jobs}
        rowKey={(j) => j.job}
        open={(j) => void navigate(`/jobs/${j.job}`)}
        empty="No jobs are declared."
        columns={[
          { title: 'job', cell: (j) => <Link to={`/jobs/${j.job}`}>{j.job}</Link> },
          { title: 'runs', num: true, cell: (j) => j.runs.toLocaleString('en') },
          { title: 'late', num: true, cell: (j) => j.late || '–' },
          { title: 'left out', num: true, cell: (j) => j.leftOut || '–' },
          { title: 'copies now', num: true, cell: (j) => j.copiesNow },
          { title: 'at the end', num: true, cell: (j) => j.copiesAtEnd },
          { title: 'one copy alone', num: true, cell: (j) => <Size bytes={j.wholeBytes} /> },
          { title: 'added per run', num: true, cell: (j) => <Size bytes={j.changeBytes} /> },
          { title: 'growth per day', num: true, cell: (j) => <Size bytes={j.growthPerDay} /> },
          { title: 'duration', num: true, cell: (j) => took(j.takesSeconds) },
          {
            title: 'based on',
            cell: (j) => <span className="soft">{j.from === 'unknown' ? 'nothing' : j.from}</span>,
          },
        ]}
      />
    </section>
  );
}
