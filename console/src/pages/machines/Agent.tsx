import type { Schemas } from '../../api/client';
import { When } from '../../ui/Facts';
import { Status } from '../../ui/Status';

export type Machine = Schemas['MachineAnswer'];

/** From how many seconds on a clock that is off is worth a word. */
const clockCounts = 120;

/** What of its machine keeps jobs waiting, in a few words. */
function standing({ stands }: Machine) {
  if (!stands) return null;
  return [stands.onMains === false && 'on battery', stands.metered === true && 'metered line']
    .filter(Boolean)
    .join(', ');
}

/** How the agent of a machine stands. */
export function Agent({ machine: m }: { machine: Machine }) {
  if (m.own) return <span className="soft name">the service itself</span>;
  const ahead = m.clockAhead ?? 0;
  switch (m.state) {
    case 'none':
      return <span className="soft">{m.readOver ? 'none, read over SFTP' : 'none'}</span>;
    case 'enrolled':
      return (
        <>
          <Status state="held">code made</Status>{' '}
          <span className="soft">
            by {m.enrolledBy}, ends <When at={m.codeUntil} />
          </span>
        </>
      );
    case 'lapsed':
      return <Status state="stale">right lapsed, not heard of for too long</Status>;
    case 'shut-out':
      return (
        <>
          <Status state="refused">shut out</Status>{' '}
          <span className="soft">
            by {m.shutOutBy}: {m.shutOutWhy}
          </span>
        </>
      );
    case 'joined':
      if (m.away) return <Status state="stale">joined, away</Status>;
      return Math.abs(ahead) > clockCounts ? (
        <Status state="warned">
          joined, its clock is {Math.round(Math.abs(ahead) / 60)} min {ahead > 0 ? 'ahead' : 'behind'}
        </Status>
      ) : (
        <>
          <Status state="ok">joined</Status> <span className="soft">{standing(m)}</span>
        </>
      );
    default:
      return m.state satisfies never;
  }
}
