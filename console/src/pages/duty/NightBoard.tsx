import { Tooltip } from '@mantine/core';
import { Link } from 'react-router';
import type { Duty } from '../../api/client';
import { When } from '../../ui/Facts';
import { Glyph } from '../../ui/Status';

export const weekday = (date: string) =>
  new Date(`${date}T12:00Z`).toLocaleDateString('en', { weekday: 'short', timeZone: 'UTC' });

/** The heads of the columns of nights: the weekday's letter for the eye, the date for the ear. */
export function NightHeads({ nights }: { nights: { date: string }[] }) {
  return nights.map((n) => (
    <th key={n.date} scope="col">
      <div className="night" title={n.date}>
        <span aria-hidden>{weekday(n.date).slice(0, 1)}</span>
        <span className="visually-hidden">{n.date}</span>
      </div>
    </th>
  ));
}

const several = (board: Duty['board'], job: string) => board.filter((r) => r.job === job).length > 1;

/** One row a job, one cell a night: a pattern of failures should jump out. */
export function NightBoard({ board }: { board: Duty['board'] }) {
  const nights = board[0]?.nights ?? [];
  return (
    <section className="sheet" aria-label="Night board">
      <h2>
        The last {nights.length} nights <span className="facts">noon to noon, the newest on the right</span>
      </h2>
      <div className="board-box" tabIndex={0} role="group" aria-label="Nights of every job">
        <table className="rows board">
          <thead>
            <tr>
              <th scope="col">job</th>
              <NightHeads nights={nights} />
              <th scope="col" className="num">
                newest
              </th>
            </tr>
          </thead>
          <tbody>
            {board.map((row) => (
              <tr key={`${row.job} ${row.machine}`}>
                <td style={{ whiteSpace: 'nowrap' }}>
                  <Link to={`/jobs/${row.job}?on=${row.machine}`}>{row.job}</Link>
                  {several(board, row.job) && <span className="soft"> {row.machine}</span>}
                </td>
                {row.nights.map((n) => (
                  <td key={n.date}>
                    <Night job={row.job} night={n} />
                  </td>
                ))}
                <td className="num">
                  {row.watched && row.newestGoodCopy === null ? (
                    <span className="soft">watched</span>
                  ) : (
                    <When at={row.newestGoodCopy} />
                  )}
                  {row.stale && <span className="tone-failed"> stale</span>}
                  {row.pause && (
                    <span className="soft" title={`Paused by ${row.pause.by}: ${row.pause.reason}`}>
                      {' '}
                      paused until {row.pause.until.slice(0, 10)}
                    </span>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <div className="legend" aria-label="Legend">
        {['ok', 'warned', 'suspect', 'failed', 'timed-out', 'missed', 'held-back', 'not-needed', 'running'].map(
          (state) => (
            <span key={state} className="status">
              <Glyph state={state} /> {state}
            </span>
          ),
        )}
        <span className="status">
          <Glyph state={null} /> none planned
        </span>
      </div>
    </section>
  );
}

type NightCell = Duty['board'][number]['nights'][number];

/** What a night shows: its worst outcome; running while nothing that was planned has ended. */
export const stateOf = (night: NightCell) => night.outcome ?? (night.planned > 0 ? 'running' : null);

function Night({ job, night }: { job: string; night: NightCell }) {
  const what = `${job}, ${weekday(night.date)} ${night.date}: ${stateOf(night) ?? 'none planned'}${night.planned > 1 ? `, the worst of ${night.planned}` : ''}`;
  const glyph = <Glyph state={stateOf(night)} label={what} />;
  return (
    <Tooltip label={what} openDelay={100}>
      {night.runId === null ? (
        <div className="cell">{glyph}</div>
      ) : (
        <Link className="cell" to={`/runs/${night.runId}`}>
          {glyph}
        </Link>
      )}
    </Tooltip>
  );
}
