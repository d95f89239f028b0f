import { Slider, Tooltip } from '@mantine/core';
import type { Preview, Schemas } from '../../api/client';
import { Size, When, usePresent } from '../../ui/Facts';
import { count, short } from '../../ui/format';
import { Glyph, Status } from '../../ui/Status';
import { Change } from './Change';
import { Reach } from './Reach';

interface EffectProps {
  kind: string;
  preview: Preview;
  /** How many days ahead the copies are shown, and how that is changed. */
  ahead: number;
  setAhead: (days: number) => void;
}

/** What a draft would mean: its mistakes, or its difference, its due instants, its copies, what its paths hold. */
export function Effect({ kind, preview: p, ahead, setAhead }: EffectProps) {
  const loose = p.mistakes.filter((m) => m.field === null);
  return (
    <>
      {p.mistakes.length > 0 && (
        <section className="sheet" aria-label="Mistakes">
          <h2>{count(p.mistakes.length, 'mistake')}</h2>
          {(loose.length > 0 ? loose : p.mistakes).map((m, i) => (
            <div key={i} style={{ padding: '8px 14px', borderBottom: '1px solid var(--line)' }}>
              <Status state="failed">{m.field ?? m.about}</Status> <span>{m.message}</span>
            </div>
          ))}
        </section>
      )}
      {p.nextDue.length > 0 && (
        <section className="sheet" aria-label="Next due">
          <h2>
            {kind === 'settings' ? 'The duty mail is due' : 'Next due'}
            {p.when && <span className="facts">{p.when}</span>}
          </h2>
          <table className="rows whole">
            <tbody>
              {p.nextDue.map((d) => (
                <tr key={d.utc}>
                  <td>
                    {d.local.slice(0, 16).replace('T', ' ')} {d.local.slice(19)}
                  </td>
                  <td className="soft wide-only">{d.utc.slice(0, 16).replace('T', ' ')} UTC</td>
                  <td className="num soft">
                    <When at={d.utc} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {p.remarks?.map((r) => (
            <div key={r} className="soft" style={{ padding: '6px 14px' }}>
              {r}
            </div>
          ))}
        </section>
      )}
      {(p.steadyState ?? '') !== '' && (
        <section className="sheet" aria-label="What it keeps">
          <h2>Its policy {p.steadyState}</h2>
          {p.policies.length > 0 && <Ahead days={ahead} set={setAhead} />}
          {p.policies.map((e) => (
            <Ladder key={`${e.job} ${e.store}`} effect={e} later={ahead > 0} />
          ))}
          {p.policies.length === 0 && <div className="empty">No job uses it yet.</div>}
        </section>
      )}
      {p.paths.length > 0 && (
        <section className="sheet" aria-label="What it takes">
          <h2>What its paths hold</h2>
          <table className="rows">
            <tbody>
              {p.paths.map((x) => (
                <tr key={x.path}>
                  <td className="mono">{x.path}</td>
                  <td className="num">
                    {x.exists ? (
                      <>
                        {!x.counted && 'more than '}
                        {count(x.items, 'file')}, <Size bytes={x.bytes} />
                      </>
                    ) : (
                      <Status state="failed">does not exist</Status>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
      {p.roomBytes !== null && (
        <section className="sheet" style={{ padding: '10px 14px' }} aria-label="Room">
          Its file system has <Size bytes={p.roomBytes} /> free.
        </section>
      )}
      {p.changes.length > 0 && (
        <section className="sheet" aria-label="What it would change">
          <h2>Changes</h2>
          {p.changes.map((c) => (
            <Change key={`${c.object} ${c.name}`} change={c} />
          ))}
          {p.consequences.map((sentence) => (
            <p key={sentence} style={{ margin: 0, padding: '6px 14px 10px' }}>
              <Status state="warned">Copies</Status> {sentence}.
            </p>
          ))}
        </section>
      )}
      <Reach of={p.reach ?? []} changes={p.changes} />
      {p.machines && (
        <section className="sheet" aria-label="Its machines">
          <h2>
            On <span className="facts">{count(p.machines.length, 'machine')}</span>
          </h2>
          <div style={{ padding: '8px 14px' }}>
            {p.machines.length === 0 ? <Status state="warned">It takes no machine.</Status> : p.machines.join(', ')}
          </div>
        </section>
      )}
      <details className="sheet" style={{ padding: '9px 14px' }}>
        <summary>Charter text</summary>
        <pre className="mono" style={{ margin: '8px 0 0', whiteSpace: 'pre-wrap' }}>
          {p.yaml}
        </pre>
      </details>
    </>
  );
}

/** Chooses the day on which the copies are looked at. */
function Ahead({ days, set }: { days: number; set: (days: number) => void }) {
  const { now, zone } = usePresent();
  const date = new Date(now + days * 86_400_000).toLocaleDateString('en-GB', {
    timeZone: zone,
    day: 'numeric',
    month: 'short',
    year: 'numeric',
  });
  return (
    <div style={{ padding: '10px 20px 24px' }}>
      <div>{days === 0 ? 'Its copies now' : <>Its copies on {date}, as if pruned after every success</>}</div>
      <Slider
        aria-label="Days ahead"
        thumbLabel="Days ahead"
        min={0}
        max={400}
        value={days}
        onChange={set}
        label={null}
        marks={[
          { value: 0, label: 'now' },
          { value: 91, label: '3 months' },
          { value: 182, label: '6 months' },
          { value: 365, label: '1 year' },
        ]}
        size="sm"
        mt={6}
      />
    </div>
  );
}

/** Every copy of a job in a store as a mark with its verdict, by the time it was taken: above those that stay, below those that go. */
function Ladder({ effect: e, later }: { effect: Schemas['PolicyEffectAnswer']; later: boolean }) {
  const { zone } = usePresent();
  const copies = [...e.copies].reverse();
  const first = Date.parse(copies[0]?.taken ?? '');
  const length = Math.max(1, Date.parse(copies.at(-1)?.taken ?? '') - first);
  const goes = (verdict: string) => verdict === 'expire' || verdict === 'frozen';
  return (
    <div style={{ padding: '8px 14px', borderBottom: '1px solid var(--line)' }}>
      <div>
        <b>{e.job}</b> <span className="soft">in {e.store}:</span> {e.keeps} stay
        {e.expires > 0 ? (
          <span className="tone-failed">
            , {e.expires} {later ? 'go that day' : 'would go'}
          </span>
        ) : (
          ', none would go'
        )}
      </div>
      {copies.length > 0 && (
        <>
          <div className="ladder">
            {copies.map((c) => (
              <Tooltip
                key={c.copyId}
                label={`${short(c.taken, zone)}: ${c.verdict}; ${c.reasons.join('; ')}`}
                openDelay={30}
                multiline
                maw={420}
              >
                <span
                  style={{ left: `${((Date.parse(c.taken) - first) / length) * 100}%`, top: goes(c.verdict) ? 27 : 5 }}
                >
                  <Glyph state={c.verdict} label={`${c.taken.slice(0, 10)}: ${c.verdict}`} />
                </span>
              </Tooltip>
            ))}
          </div>
          <div className="ladder-ends soft">
            <span>{short(copies[0]?.taken ?? '', zone)}</span>
            <span>{short(copies.at(-1)?.taken ?? '', zone)}</span>
          </div>
          <details>
            <summary className="soft">Every copy with its reason</summary>
            <table className="rows">
              <tbody>
                {e.copies.map((c) => (
                  <tr key={c.copyId}>
                    <td style={{ whiteSpace: 'nowrap' }}>{short(c.taken, zone)}</td>
                    <td>
                      <Status state={c.verdict}>{c.verdict}</Status>
                    </td>
                    <td className="soft">{c.reasons.join('; ')}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </details>
        </>
      )}
    </div>
  );
}
