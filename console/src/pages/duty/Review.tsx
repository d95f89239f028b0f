import { Link } from 'react-router';
import type { Duty } from '../../api/client';
import { usePresent, When } from '../../ui/Facts';
import { count, short } from '../../ui/format';
import { Status } from '../../ui/Status';

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
                  <Link to={`/jobs/${w.job}`}>{w.job}</Link>
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
