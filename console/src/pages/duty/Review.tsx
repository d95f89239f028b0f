import { Link } from 'react-router';
import type { Duty } from '../../api/client';
import { usePresent, When } from '../../ui/Facts';
import { count, short } from '../../ui/format';
import { Status } from '../../ui/Status';
import { coverageOf, coverages } from '../machines/coverage';

const shown = 3;

/** What changed since yesterday, which promises are broken, and what the coming night may bring: three lines for an ordinary night. */
export function Review({ duty }: { duty: Duty }) {
  const { zone } = usePresent();
  const { since, promises, tonight } = duty;
  const expected = (tonight?.length ?? 0) + duty.tonightMore;
  return (
    <dl className="review">
      <dt>Since yesterday</dt>
      <dd>
        {count(since.alertsOpened, 'alert')} opened, {since.alertsClosed} closed;{' '}
        {count(since.copiesMade, 'copy', 'copies')} made, {since.copiesExpired} expired, {since.copiesGone} freed
        {since.charterChanges > 0 && `; the charter was changed ${count(since.charterChanges, 'time')}`}
      </dd>
      {promises.promised > 0 && (
        <>
          <dt>Promises</dt>
          <dd>
            {promises.promised - promises.broken} of {promises.promised} kept
            {promises.worst.slice(0, shown).map((w) => (
              <div key={`${w.job} ${w.machine}`}>
                <Status state="failed">
                  <Link to={`/machines/${w.machine}`}>
                    {w.job} on {w.machine}
                  </Link>
                </Status>{' '}
                <span className="soft">
                  newest <When at={w.newestGoodCopy} />, {w.freshWithin} promised
                </span>
              </div>
            ))}
            {promises.broken > shown && <Link to="/jobs">and {promises.broken - shown} more</Link>}
          </dd>
        </>
      )}
      <Machines coverage={duty.coverage} />
      <dt>Tonight</dt>
      <dd>
        {tonight === null ? (
          <span className="soft">being played</span>
        ) : tonight.length === 0 ? (
          'nothing is expected to go wrong'
        ) : (
          tonight.slice(0, shown).map((t) => (
            <div key={`${t.at} ${t.subject} ${t.message}`}>
              <Status state="warned">{short(t.at, zone)}</Status> {t.subject} {t.message}
            </div>
          ))
        )}
        {expected > shown && <Link to="/timetable/forecast">and {expected - shown} more</Link>}
      </dd>
    </dl>
  );
}

/** How the machines are protected, what has come into a class that somebody should look at, and what jobs have taken by themselves. */
function Machines({ coverage }: { coverage: Duty['coverage'] }) {
  const classes = coverages.filter((c) => (coverage.classes[c.of] ?? 0) > 0);
  const all = classes.reduce((sum, c) => sum + (coverage.classes[c.of] ?? 0), 0);
  if (all < 2 && coverage.newsCount + coverage.decisions.length + coverage.cameBack.length === 0) return null;
  const more = (many: number) => many > shown && <Link to="/machines">and {many - shown} more</Link>;
  return (
    <>
      <dt>Machines</dt>
      <dd>
        {all}:{' '}
        {classes.map((c, i) => (
          <span key={c.of}>
            {i > 0 && ', '}
            <Link to={`/machines?coverage=${c.of}`}>
              {coverage.classes[c.of]} {c.words}
            </Link>
          </span>
        ))}
        {coverage.news.slice(0, shown).map((n) => (
          <div key={n.machine}>
            <Status state={coverageOf(n.class).look}>
              <Link to={`/machines/${n.machine}`}>{n.machine}</Link>
            </Status>{' '}
            <span className="soft">
              {coverageOf(n.class).words} since <When at={n.since} />: {n.why}
            </span>
          </div>
        ))}
        {more(coverage.newsCount)}
        {coverage.taken.slice(0, shown).map((t) => (
          <div key={`${t.job} ${t.machine}`}>
            <Status state="taken">
              <Link to={`/machines/${t.machine}`}>{t.machine}</Link>
            </Status>{' '}
            <span className="soft">
              taken by job {t.job} <When at={t.since} />
            </span>
          </div>
        ))}
        {more(coverage.takenCount)}
        {coverage.cameBack.map((b) => (
          <div key={b.machine}>
            <Status state="suspect">
              <Link to={`/machines/${b.machine}`}>{b.machine}</Link>
            </Status>{' '}
            <span className="soft">
              a machine with its key wanted to join as {b.cameAs} <When at={b.at} />
            </span>
          </div>
        ))}
        {coverage.decisions.map((d) => (
          <div key={d.machine}>
            <Status state={d.over ? 'failed' : 'warned'}>
              <Link to={`/machines/${d.machine}`}>{d.machine}</Link>
            </Status>{' '}
            <span className="soft">
              retired: {d.copiesOwner} was to say by {d.decideBy} what becomes of its copies, kept until {d.copiesUntil}
            </span>
          </div>
        ))}
      </dd>
    </>
  );
}
