import { Tooltip } from '@mantine/core';
import { useRef, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import type { Schemas } from '../../api/client';
import { usePresent } from '../../ui/Facts';
import { short } from '../../ui/format';
import { Glyph } from '../../ui/Status';

type Bar = Schemas['TimetableBar'];
type Axis = Schemas['TimetableAxis'];

const hour = 3_600_000;

interface AxisProps {
  axis: Axis;
  by: 'machine' | 'store';
  /** Where the stretch that was asked for begins; the one that is drawn may be the one before, until the answer is here. */
  begin: number;
  move: (from: number) => void;
}

/**
 * Rows of jobs in groups, machines or stores; bars from start to end, what waits before its start as a thin line; quiet hours
 * hatched; above each group how many are at work at once against its ceiling. Dragging moves the stretch.
 */
export function Axis({ axis, by, begin, move }: AxisProps) {
  const { zone } = usePresent();
  const [dragged, setDragged] = useState(0);
  const from = Date.parse(axis.from) - dragged;
  const length = Date.parse(axis.to) - Date.parse(axis.from);
  const ground = useRef<HTMLDivElement>(null);
  const begun = useRef<{ x: number; width: number } | null>(null);
  const at = (time: number) => ((time - from) / length) * 100;
  const groups = new Map<string, Bar[]>();
  for (const bar of axis.bars)
    for (const name of by === 'machine' ? [bar.machine] : bar.watched ? ['watched, no store'] : bar.stores)
      groups.set(name, [...(groups.get(name) ?? []), bar]);
  const scene: Scene = { at, lines: gridLines(from, length, zone), axis, zone };
  if (groups.size === 0)
    return <div className="sheet empty">Nothing ran or will run in this stretch. Drag it, or choose another date.</div>;
  return (
    <section
      className="sheet axis"
      aria-label="Time axis"
      tabIndex={0}
      onKeyDown={(e) => {
        if (e.key === 'ArrowLeft') move(begin - length / 4);
        if (e.key === 'ArrowRight') move(begin + length / 4);
      }}
      onPointerDown={(e) => {
        if (!ground.current || (e.target as HTMLElement).closest('a')) return;
        begun.current = { x: e.clientX, width: ground.current.clientWidth };
        e.currentTarget.setPointerCapture(e.pointerId);
      }}
      onPointerMove={(e) => {
        if (begun.current) setDragged(((e.clientX - begun.current.x) / begun.current.width) * length);
      }}
      onPointerUp={() => {
        if (begun.current && Math.abs(dragged) > length / 200) move(Date.parse(axis.from) - dragged);
        begun.current = null;
        setDragged(0);
      }}
    >
      <div className="soft axis-hint">drag, or ← →</div>
      <div className="axis-hours soft" ref={ground}>
        {scene.lines.map((l) => (
          <span key={l.time} style={{ left: `${at(l.time)}%` }} className={l.midnight ? 'axis-day' : undefined}>
            {l.text}
          </span>
        ))}
      </div>
      {[...groups]
        .sort(([a], [b]) => a.localeCompare(b))
        .map(([name, bars]) => (
          <Group key={name} name={name} by={by} bars={bars} scene={scene} />
        ))}
      <div className="legend" style={{ gridColumn: '1 / -1' }} aria-label="Legend">
        <span className="status">
          <i className="run-bar run-past" /> ran
        </span>
        <span className="status">
          <i className="run-bar run-coming" /> expected
        </span>
        <span className="status">
          <i className="run-bar run-watched" /> watched
        </span>
        <span className="status">
          <i className="run-wait" /> waits for its turn
        </span>
        <span className="status">
          <i className="run-bar quiet-span" /> quiet hours or closed
        </span>
        <span className="status">
          <Glyph state="cancelled" /> dropped there
        </span>
      </div>
    </section>
  );
}

interface Scene {
  at: (time: number) => number;
  lines: { time: number; text: string; midnight: boolean }[];
  axis: Axis;
  zone: string;
}

function Group({ name, by, bars, scene }: { name: string; by: 'machine' | 'store'; bars: Bar[]; scene: Scene }) {
  const own = scene.axis.ceilings.find((c) => c.of === `${by} ${name}`);
  const all = scene.axis.ceilings.find((c) => c.of === 'all');
  const ceiling = own?.most ?? all?.most;
  const watched = bars.every((b) => b.watched);
  const jobs = [...new Set(bars.map((b) => b.job))].sort();
  return (
    <>
      <div className="axis-group">
        {name}
        <span className="soft">
          {watched
            ? ' does its own'
            : ceiling === undefined
              ? ''
              : ` at most ${ceiling} at once${own ? '' : ' in all'}`}
        </span>
      </div>
      <div className="axis-row axis-count">
        {!watched && <AtOnce bars={bars} ceiling={ceiling} scene={scene} />}
        <Lines scene={scene} />
      </div>
      {jobs.map((job) => (
        <Row key={job} job={job} bars={bars.filter((b) => b.job === job)} scene={scene} />
      ))}
    </>
  );
}

function Row({ job, bars, scene }: { job: string; bars: Bar[]; scene: Scene }) {
  const { at, axis } = scene;
  return (
    <>
      <Link to={`/jobs/${job}`} className="axis-name">
        {job}
      </Link>
      <div className="axis-row">
        {axis.quiet
          .filter((q) => q.job === job)
          .map((q) => (
            <Tooltip key={q.from} label={`${job} does not begin: ${q.name}`} openDelay={50}>
              <div
                className="quiet-span"
                style={{
                  left: `${at(Date.parse(q.from))}%`,
                  width: `${at(Date.parse(q.to)) - at(Date.parse(q.from))}%`,
                }}
              />
            </Tooltip>
          ))}
        <Lines scene={scene} />
        {bars.map((b) => (
          <Run key={`${b.due} ${b.runId}`} bar={b} scene={scene} />
        ))}
      </div>
    </>
  );
}

/** What a bar is called: its outcome, or that it waits or was dropped; null while it is at work or to come. */
export const stateOf = (b: Bar) => b.outcome ?? (b.dropped ? 'dropped' : b.waits ? 'waits' : null);

function Run({ bar: b, scene: { at, zone } }: { bar: Bar; scene: Scene }) {
  const navigate = useNavigate();
  const [due, start, end] = [Date.parse(b.due), Date.parse(b.start), Date.parse(b.end)];
  const what = `${b.job}, due ${short(b.due, zone)}${start - due > 60_000 ? `, begins ${short(b.start, zone)}` : ''}${end > start ? `, ends ${short(b.end, zone)}` : ''}${b.past || b.outcome || b.dropped ? `: ${stateOf(b) ?? 'at work'}` : ', expected'}${b.why ? `; ${b.why}` : ''}`;
  const bad = b.dropped || (b.outcome !== null && b.outcome !== 'ok');
  return (
    <>
      {start - due > 60_000 && (
        <div className="run-wait" style={{ left: `${at(due)}%`, width: `${at(start) - at(due)}%` }} />
      )}
      <Tooltip label={what} openDelay={50} multiline maw={420}>
        {bad ? (
          <a
            className="run-mark"
            style={{ left: `${at(start)}%` }}
            href={b.runId ? `/runs/${b.runId}` : `/jobs/${b.job}?on=${b.machine}`}
            onClick={(e) => {
              e.preventDefault();
              void navigate(b.runId ? `/runs/${b.runId}` : `/jobs/${b.job}?on=${b.machine}`);
            }}
          >
            <Glyph state={b.dropped ? 'cancelled' : b.outcome} label={what} />
          </a>
        ) : (
          <div
            className={`run-bar ${b.past ? 'run-past' : b.watched ? 'run-watched' : 'run-coming'}`}
            style={{ left: `${at(start)}%`, width: `max(4px, ${at(end) - at(start)}%)` }}
            role="img"
            aria-label={what}
          />
        )}
      </Tooltip>
    </>
  );
}

/** How many of a group are at work at once; where the ceiling is reached the step is filled. */
function AtOnce({ bars, ceiling, scene: { at } }: { bars: Bar[]; ceiling: number | undefined; scene: Scene }) {
  const steps: { time: number; by: number }[] = [];
  for (const b of bars.filter((b) => b.end > b.start && !b.watched))
    steps.push({ time: Date.parse(b.start), by: 1 }, { time: Date.parse(b.end), by: -1 });
  steps.sort((a, b) => a.time - b.time || a.by - b.by);
  const spans: { from: number; to: number; n: number }[] = [];
  let n = 0;
  steps.forEach((s, i) => {
    n += s.by;
    const next = steps[i + 1];
    if (n > 0 && next && next.time > s.time) spans.push({ from: s.time, to: next.time, n });
  });
  const most = Math.max(1, ceiling ?? 1, ...spans.map((s) => s.n));
  return spans.map((s) => (
    <Tooltip key={s.from} label={`${s.n} at once${s.n === ceiling ? ', which is the ceiling' : ''}`} openDelay={50}>
      <div
        className={s.n === ceiling ? 'at-once at-ceiling' : 'at-once'}
        style={{
          left: `${at(s.from)}%`,
          width: `max(2px, ${at(s.to) - at(s.from)}%)`,
          height: `${(s.n / most) * 100}%`,
        }}
      />
    </Tooltip>
  ));
}

function Lines({ scene: { at, lines, axis } }: { scene: Scene }) {
  return (
    <>
      {lines.map((l) => (
        <div
          key={l.time}
          className={l.midnight ? 'axis-line axis-midnight' : 'axis-line'}
          style={{ left: `${at(l.time)}%` }}
        />
      ))}
      <div className="axis-now" style={{ left: `${at(Date.parse(axis.now))}%` }} />
    </>
  );
}

function gridLines(from: number, length: number, zone: string): Scene['lines'] {
  const step = length <= 12 * hour ? 1 : length <= 24 * hour ? 3 : length <= 48 * hour ? 6 : 24;
  const lines: Scene['lines'] = [];
  for (let time = Math.ceil(from / hour) * hour; time < from + length; time += hour) {
    const clock = new Date(time).toLocaleString('en-GB', {
      timeZone: zone,
      hour: '2-digit',
      minute: '2-digit',
      hourCycle: 'h23',
    });
    const h = Number(clock.slice(0, 2));
    if (h % step !== 0) continue;
    lines.push({
      time,
      midnight: h === 0,
      text: h === 0 ? short(new Date(time).toISOString(), zone).slice(0, -6) : clock,
    });
  }
  return lines;
}
