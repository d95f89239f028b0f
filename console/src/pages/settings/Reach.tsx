import { Link } from 'react-router';
import type { Schemas } from '../../api/client';
import { count } from '../../ui/format';
import { Status } from '../../ui/Status';

type OneReach = Schemas['ReachAnswer'];

const did = { added: 'takes', removed: 'leaves', changed: 'changes on' } as const;

/** A job on one machine that changes as its own text does needs no second word. */
const isSaid = (r: OneReach, changes: Schemas['CharterChangeAnswer'][]) =>
  r.count === 1 && r.letsGo === 0 && changes.some((c) => c.object === 'job' && c.name === r.job);

/** Which jobs change on which machines, in what, and how many copies the policies would then let go. */
export function Reach(props: { of: OneReach[]; changes: Schemas['CharterChangeAnswer'][] }) {
  const of = props.of.filter((r) => !isSaid(r, props.changes));
  if (of.length === 0) return null;
  return (
    <section className="sheet" aria-label="Machines that it reaches">
      <h2>On machines</h2>
      {of.map((r, i) => (
        <div key={i} style={{ padding: '8px 14px', borderBottom: '1px solid var(--line)' }}>
          <Status state={r.change === 'removed' ? 'warned' : r.change === 'added' ? 'taken' : 'held'}>
            Job {r.job} {did[r.change]} {count(r.count, 'machine')}
          </Status>
          <div>
            {r.machines.map((m, n) => (
              <span key={m}>
                {n > 0 && ', '}
                <Link to={`/machines/${m}`}>{m}</Link>
              </span>
            ))}
            {r.count > r.machines.length && ` and ${r.count - r.machines.length} more`}
          </div>
          {r.fields.map((f) => (
            <div key={f.field} className="soft">
              {f.field}: {f.before ?? 'nothing'} → {f.after ?? 'nothing'}
            </div>
          ))}
          {r.letsGo === null ? (
            <div className="tone-warned">Its copies are too many to be judged while you wait.</div>
          ) : (
            r.letsGo > 0 && <div className="tone-warned">{count(r.letsGo, 'copy', 'copies')} would go.</div>
          )}
        </div>
      ))}
    </section>
  );
}
