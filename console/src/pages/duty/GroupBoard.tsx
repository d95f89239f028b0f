import { Tooltip } from '@mantine/core';
import { Link } from 'react-router';
import type { Duty } from '../../api/client';
import { count } from '../../ui/format';
import { Glyph } from '../../ui/Status';
import { NightHeads, weekday } from './NightBoard';

type Group = Duty['groups'][number];

/** Many jobs put together: a row for each group, a cell for each night with its worst outcome and how many jobs it went wrong for. */
export function GroupBoard({ duty }: { duty: Duty }) {
  const nights = duty.groups[0]?.nights ?? [];
  return (
    <section className="sheet" aria-label="Night board">
      <h2>
        The last {nights.length} nights <span className="facts">by {duty.groupedBy}, those with trouble first</span>
      </h2>
      <div className="board-box" tabIndex={0} role="group" aria-label="Nights of every group">
        <table className="rows board">
          <thead>
            <tr>
              <th scope="col">{duty.groupedBy}</th>
              <NightHeads nights={nights} />
              <th scope="col" className="num">
                jobs
              </th>
            </tr>
          </thead>
          <tbody>
            {duty.groups.map((g) => (
              <tr key={g.name}>
                <td>
                  {duty.groupedBy === 'machine' && g.groups === 1 ? (
                    <Link to={`/machines/${g.name}`}>{g.name}</Link>
                  ) : (
                    g.name
                  )}
                </td>
                {g.nights.map((n) => (
                  <td key={n.date}>
                    <Night group={g} night={n} />
                  </td>
                ))}
                <td className="num">
                  {g.jobs.toLocaleString('en')}
                  {g.stale > 0 && <span className="tone-failed"> {g.stale} stale</span>}
                  {g.paused > 0 && <span className="soft"> {g.paused} paused</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

function Night({ group, night }: { group: Group; night: Group['nights'][number] }) {
  const state = night.worst ?? (night.planned > 0 ? 'running' : null);
  const bad = night.bad > 0 ? `${count(night.bad, 'job')} went wrong` : 'none went wrong';
  const what = `${group.name}, ${weekday(night.date)} ${night.date}: ${
    night.planned === 0 ? 'none planned' : `${count(night.planned, 'run')} planned, ${bad}`
  }`;
  return (
    <Tooltip label={what} openDelay={100}>
      <div className="cell">
        <Glyph state={state} label={what} />
      </div>
    </Tooltip>
  );
}
