import { SegmentedControl, Tooltip } from '@mantine/core';
import type { Schemas } from '../../api/client';
import { useFilters } from '../../ui/params';
import { Glyph, Status } from '../../ui/Status';

type Night = Schemas['NightAnswer'];

const dayNames = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun'];
export const day = (date: string) => new Date(`${date}T12:00Z`);
export const weekday = (date: string) => (day(date).getUTCDay() + 6) % 7;

/** How much of a calendar is shown, kept in the address. */
export function useSpan() {
  const [params, set] = useFilters();
  const year = params.get('span') === 'year';
  const choice = (
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
  );
  return { year, nights: year ? 366 : 42, choice };
}

/**
 * Six weeks of nights, a card each, with the medium that each takes. Within a set whose media and groups begin with its name, the name and
 * the groups are left out.
 */
export function Weeks({ nights, today, within }: { nights: Night[]; today: string; within?: string }) {
  const label = (medium: string) =>
    within && medium.startsWith(`${within}-`) ? medium.slice(within.length + 1) : medium;
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
              <b>{label(n.medium)}</b>
            ) : (
              <span className="soft">–</span>
            )}
            <span className="soft night-group">
              {n.appends ? 'goes on' : (n.medium || n.short) && !within ? n.group : ''}
            </span>
          </div>
        </Tooltip>
      ))}
    </div>
  );
}

/** A row a month, a cell a night: a mark for a medium begun, a dot for one that goes on, a cross for a shortage. */
export function Year({ nights, today }: { nights: Night[]; today: string }) {
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
