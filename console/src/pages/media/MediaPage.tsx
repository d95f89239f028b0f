import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type Schemas } from '../../api/client';
import { usePresent } from '../../ui/Facts';
import { count, short } from '../../ui/format';
import { Answer, Page } from '../../ui/Page';
import { Status } from '../../ui/Status';
import { Weeks, Year, day, useSpan, weekday } from './Nights';

type Rotation = Schemas['RotationAnswer'];

/** Which medium every night takes, for six weeks or a year; nights that will be short stand out. */
export function MediaPage() {
  const { now, zone } = usePresent();
  const { year, nights, choice } = useSpan();
  const today = new Date(now).toLocaleDateString('sv', { timeZone: zone });
  // Six weeks begin with this week's Monday, a year with the first of this month.
  const monday = new Date(day(today).getTime() - weekday(today) * 86_400_000).toISOString().slice(0, 10);
  const first = year ? `${today.slice(0, 8)}01` : monday;
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
        <>
          <Button component={Link} to="/media/schemes" size="xs" variant="default">
            Ready schemes
          </Button>
          {choice}
        </>
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
              <Button component={Link} to="/media/schemes" size="xs">
                Start from a ready scheme
              </Button>{' '}
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
