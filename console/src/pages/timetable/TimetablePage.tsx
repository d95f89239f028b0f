import { SegmentedControl, Tooltip } from '@mantine/core';
import { Link, useSearchParams } from 'react-router';
import type { Schemas } from '../../api/client';
import { useTimetable } from '../../api/hooks';
import { usePresent, When } from '../../ui/Facts';
import { count, exact, short } from '../../ui/format';
import { Answer, Page } from '../../ui/Page';
import { Rows } from '../../ui/Rows';

type Due = Schemas['TimetableEntry'];

export function TimetablePage() {
  const [params, setParams] = useSearchParams();
  const hours = Number(params.get('hours') ?? 48);
  const due = useTimetable(hours);
  return (
    <Page
      title="Timetable"
      facts={due.data && `${count(due.data.length, 'planned run')} in the coming ${hours} hours`}
      doing={
        <SegmentedControl
          size="xs"
          aria-label="How far ahead"
          value={String(hours)}
          onChange={(value) => setParams({ hours: value }, { replace: true })}
          data={[
            { value: '24', label: '24 h' },
            { value: '48', label: '48 h' },
            { value: '168', label: '7 days' },
          ]}
        />
      }
    >
      <Answer of={due}>
        {(entries) => (
          <div className="columns">
            <Axis entries={entries} hours={hours} />
            <div className="sheet">
              <Rows
                label="Planned runs"
                rows={entries}
                rowKey={(e) => `${e.utc} ${e.job}`}
                empty="Nothing is due. Jobs without 'when' run only when somebody asks."
                columns={[
                  {
                    title: 'local',
                    cell: (e) => (
                      <>
                        {e.local.slice(0, 16).replace('T', ' ')}{' '}
                        <span className="soft">
                          {e.local.slice(19)} {e.zone}
                        </span>
                      </>
                    ),
                  },
                  { title: 'UTC', cell: (e) => e.utc.slice(0, 16).replace('T', ' ') },
                  { title: '', cell: (e) => <When at={e.utc} /> },
                  {
                    title: 'job',
                    cell: (e) => <Link to={`/jobs/${e.job}`}>{e.job}</Link>,
                  },
                  { title: 'machine', cell: (e) => e.machine },
                  { title: 'into', cell: (e) => e.into.join(', ') },
                ]}
              />
            </div>
          </div>
        )}
      </Answer>
    </Page>
  );
}

/** One lane a job, one mark a due instant, midnights as lines. */
function Axis({ entries, hours }: { entries: Due[]; hours: number }) {
  const { now, zone } = usePresent();
  const jobs = [...new Set(entries.map((e) => e.job))].sort();
  const at = (time: number) => ((time - now) / (hours * 3_600_000)) * 100;
  const hourOf = (time: number) =>
    Number(new Date(time).toLocaleString('en-GB', { timeZone: zone, hour: '2-digit', hourCycle: 'h23' }));
  const step = hours > 100 ? 24 : 6;
  const lines: number[] = [];
  for (let time = Math.ceil(now / 3_600_000) * 3_600_000; time < now + hours * 3_600_000; time += 3_600_000)
    if (hourOf(time) % step === 0) lines.push(time);
  if (jobs.length === 0) return null;
  return (
    <section
      className="sheet"
      aria-label="Time axis"
      style={{ display: 'grid', gridTemplateColumns: 'max-content minmax(0, 1fr)', padding: '10px 14px' }}
    >
      <div />
      <div style={{ position: 'relative', height: 20 }} className="soft">
        {lines.map((t) => (
          <span
            key={t}
            style={{
              position: 'absolute',
              left: `${at(t)}%`,
              fontSize: 11.5,
              transform: 'translateX(-50%)',
              whiteSpace: 'nowrap',
            }}
          >
            {hourOf(t) === 0
              ? short(new Date(t).toISOString(), zone).slice(0, -6)
              : `${String(hourOf(t)).padStart(2, '0')}:00`}
          </span>
        ))}
      </div>
      {jobs.map((job) => (
        <div key={job} style={{ display: 'contents' }}>
          <Link to={`/jobs/${job}`} style={{ paddingRight: 16, lineHeight: '26px' }}>
            {job}
          </Link>
          <div className="lane">
            {lines.map((t) => (
              <div
                key={t}
                style={{
                  position: 'absolute',
                  left: `${at(t)}%`,
                  top: 0,
                  bottom: 0,
                  borderLeft: `1px solid var(--line)`,
                }}
              />
            ))}
            {entries
              .filter((e) => e.job === job)
              .map((e) => (
                <Tooltip key={e.utc} label={exact(e.utc, e.zone)} openDelay={50}>
                  <div className="tick" style={{ left: `${at(Date.parse(e.utc))}%` }} />
                </Tooltip>
              ))}
          </div>
        </div>
      ))}
    </section>
  );
}
