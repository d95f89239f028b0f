import { Button, SegmentedControl, Tooltip } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type Schemas } from '../../api/client';
import { usePresent } from '../../ui/Facts';
import { count, short } from '../../ui/format';
import { Answer, Page } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Glyph, Status } from '../../ui/Status';

type Rotation = Schemas['RotationAnswer'];
type Night = Schemas['NightAnswer'];

const dayNames = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun'];
const day = (date: string) => new Date(`${date}T12:00Z`);
const weekday = (date: string) => (day(date).getUTCDay() + 6) % 7;

/** Which medium every night takes, for six weeks or a year; nights that will be short stand out. */
export function MediaPage() {
  const { now, zone } = usePresent();
  const [params, set] = useFilters();
  const year = params.get('span') === 'year';
  const today = new Date(now).toLocaleDateString('sv', { timeZone: zone });
  // Six weeks begin with this week's Monday, a year with the first of this month.
  const monday = new Date(day(today).getTime() - weekday(today) * 86_400_000).toISOString().slice(0, 10);
  const first = year ? `${today.slice(0, 8)}01` : monday;
  const nights = year ? 366 : 42;
  const rotations = useQuery({
    queryKey: ['rotations', first, nights],
    placeholderData: (before) => before,
    queryFn: () => take(api.GET('/api/v1/rotations', { params: { query: { first, nights } } })),
  });
  return (
    <Page
      title="Media"
      facts={rotations.data && (rotations.data.length > 0 ? 'which medium takes which night' : undefined)}
      doing={
        <SegmentedControl
          size="xs"
          aria-label="Span"
          value={year ? 'year' : 'weeks'}
          onChange={(value) => set({ span: value === 'year' ? value : null })}
          data={[
            { value: 'weeks', label: '6 weeks' },
            { value: 'year', label: '1 year' },
          ]}
        />
      }
    >
      <Answer of={rotations}>
        {(all) =>
          all.length === 0 ? (
            <div className="sheet empty">
              <p>
                No rotation set is declared. One says which media take turns on which nights, and how long each stays
                untouched.
              </p>
              <Button component={Link} to="/settings/rotation-set/new" size="xs" variant="default">
                New rotation set
              </Button>
            </div>
          ) : (
            <div className="columns">
              {all.map((r) => (
                <section key={r.set} className="sheet" aria-label={`Rotation set ${r.set}`}>
                  <h2>
                    {r.set} <span className="facts">{tonight(r, today)}</span>
                    <Link to={`/settings/rotation-set/${r.set}`} style={{ marginLeft: 'auto', fontWeight: 400 }}>
                      change
                    </Link>
                  </h2>
                  <div className="columns aside padded">
                    {year ? <Year nights={r.nights} today={today} /> : <Weeks nights={r.nights} today={today} />}
                    <Groups rotation={r} today={today} />
                  </div>
                </section>
              ))}
            </div>
          )
        }
      </Answer>
    </Page>
  );
}

const tonight = (r: Rotation, today: string) => {
  const night = r.nights.find((n) => n.date === today);
  return !night
    ? 'has not begun yet'
    : night.medium
      ? `tonight ${night.medium}`
      : night.short
        ? 'tonight is short of a medium'
        : 'no medium tonight';
};

function Weeks({ nights, today }: { nights: Night[]; today: string }) {
  const lead = nights[0] ? weekday(nights[0].date) : 0;
  return (
    <div className="weeks" role="group" aria-label="Six weeks">
      {dayNames.map((d) => (
        <div key={d} className="soft week-day">
          {d}
        </div>
      ))}
      {Array.from({ length: lead }, (_, i) => (
        <div key={`lead ${i}`} className="week-lead" />
      ))}
      {nights.map((n) => (
        <Tooltip key={n.date} label={n.why} openDelay={100} multiline maw={360}>
          <div
            className={`night-card${n.short ? ' night-short' : ''}${n.date === today ? ' night-today' : ''}${n.date < today ? ' night-past' : ''}`}
          >
            <span className="soft night-date">
              {day(n.date).toLocaleDateString('en-GB', {
                day: 'numeric',
                month: n.date.endsWith('-01') || n.date === nights[0]?.date ? 'short' : undefined,
                timeZone: 'UTC',
              })}
            </span>
            {n.short ? (
              <Status state="failed">no free medium</Status>
            ) : n.medium ? (
              <b>{n.medium}</b>
            ) : (
              <span className="soft">–</span>
            )}
            <span className="soft night-group">
              {n.medium ? (n.appends ? 'goes on' : n.group) : n.short ? n.group : ''}
            </span>
          </div>
        </Tooltip>
      ))}
    </div>
  );
}

/** A row a month, a cell a night: a mark for a medium begun, a dot for one that goes on, a cross for a shortage. */
function Year({ nights, today }: { nights: Night[]; today: string }) {
  const months = [...new Set(nights.map((n) => n.date.slice(0, 7)))];
  return (
    <div className="year-box" tabIndex={0} role="group" aria-label="A year of nights">
      <table className="year" aria-label="A year">
        <thead>
          <tr>
            <th />
            {Array.from({ length: 31 }, (_, i) => (
              <th key={i} scope="col" className="soft">
                {i + 1}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {months.map((m) => (
            <tr key={m}>
              <th scope="row">
                {day(`${m}-01`).toLocaleDateString('en', { month: 'short', year: '2-digit', timeZone: 'UTC' })}
              </th>
              {Array.from({ length: 31 }, (_, i) => {
                const n = nights.find((x) => x.date === `${m}-${String(i + 1).padStart(2, '0')}`);
                return (
                  <td key={i} className={n?.date === today ? 'night-today' : undefined}>
                    {n && (
                      <Tooltip
                        label={`${n.date}: ${n.medium ?? (n.short ? 'no free medium' : 'none')}; ${n.why}`}
                        openDelay={50}
                        multiline
                        maw={360}
                      >
                        <span>
                          <Glyph
                            state={n.short ? 'failed' : n.medium ? (n.appends ? 'unchecked' : 'taken') : null}
                            label={`${n.date}: ${n.medium ?? (n.short ? 'short' : 'none')}`}
                          />
                        </span>
                      </Tooltip>
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Groups({ rotation: r, today }: { rotation: Rotation; today: string }) {
  const { zone } = usePresent();
  return (
    <div>
      {r.groups.map((g) => {
        const shorts = r.nights.filter((n) => n.group === g.group && n.short && n.date >= today);
        const enough = g.enough === null ? false : g.has >= g.enough;
        return (
          <div key={g.group} style={{ marginBottom: 14 }}>
            <b>
              <Link to={`/settings/media-group/${g.group}`}>{g.group}</Link>
            </b>{' '}
            <span className="soft">{count(g.has, 'medium', 'media')}</span>
            <div>
              <Status state={enough ? 'ok' : 'warned'}>
                {g.enough === null
                  ? 'no number is enough'
                  : enough
                    ? `enough; ${g.enough} would do`
                    : `${g.enough} would be enough`}
              </Status>
            </div>
            <div className="soft" style={{ fontSize: 12.5 }}>
              {g.how}
            </div>
            {shorts[0] && (
              <div className="tone-failed" style={{ fontSize: 13 }}>
                short on {count(shorts.length, 'coming night')} of this span, first{' '}
                {short(shorts[0].start, zone).slice(0, -6)}
              </div>
            )}
          </div>
        );
      })}
      <div className="soft" style={{ fontSize: 12.5 }}>
        The turn is played from the set’s first night on. Writing to media is done by hand; nothing here records it.
      </div>
    </div>
  );
}
