import { useState } from 'react';
import type { Schemas } from '../../api/client';
import { usePresent } from '../../ui/Facts';
import { short, size } from '../../ui/format';

const width = 560;
const height = 150;
const left = 6;
const right = 96;
const top = 14;
const bottom = 20;

/** One store over the days: used as a line, what only the bin keeps below it shaded, room less reserve as the line not to cross. */
export function SpacePlot(props: { store: Schemas['StoreForecastAnswer']; dates: string[]; full: string | null }) {
  const { store: s, dates, full } = props;
  const { zone } = usePresent();
  const [day, setDay] = useState<number | null>(null);
  const limit = s.room === null ? null : s.room - s.reserve;
  const most = Math.max(...s.used, 1);
  // A limit far above what is ever used would flatten the line that matters.
  const shown = limit !== null && limit < most * 4;
  const scale = (shown ? Math.max(most, limit) : most) * 1.08;
  const x = (i: number) => left + (i / Math.max(1, s.used.length - 1)) * (width - left - right);
  const y = (bytes: number) => top + (1 - bytes / scale) * (height - top - bottom);
  const line = s.used.map((b, i) => `${x(i)},${y(b)}`).join(' ');
  const bin = [
    ...s.used.map((b, i) => `${x(i)},${y(b)}`),
    ...s.used.map((b, i) => `${x(i)},${y(b - (s.inBin[i] ?? 0))}`).reverse(),
  ].join(' ');
  const last = s.used.length - 1;
  const at = day ?? last;
  const used = s.used[at] ?? 0;
  return (
    <figure className="space-plot" aria-label={`Store ${s.store}`}>
      <figcaption>
        <b>{s.store}</b>{' '}
        <span className="soft">
          {dates[at]}: {size(used)} used{(s.inBin[at] ?? 0) > 0 ? `, ${size(s.inBin[at])} of that in the bin` : ''}
          {limit !== null && `, of ${size(limit)}`}
          {s.reserve > 0 && ` and ${size(s.reserve)} in reserve`}
        </span>
        {full && (
          <span className="tone-failed">
            {' '}
            full first on {short(full, zone).slice(0, -6)} {full.slice(0, 4)}
          </span>
        )}
      </figcaption>
      <svg
        viewBox={`0 0 ${width} ${height}`}
        role="img"
        aria-label={`${s.store}: from ${size(s.usedNow)} to ${size(s.used[last])}, at most ${size(most)}${limit === null ? '' : ` of ${size(limit)}`}`}
        onPointerMove={(e) => {
          const box = e.currentTarget.getBoundingClientRect();
          const share = (((e.clientX - box.left) / box.width) * width - left) / (width - left - right);
          setDay(Math.min(last, Math.max(0, Math.round(share * last))));
        }}
        onPointerLeave={() => setDay(null)}
      >
        {months(dates).map((m) => (
          <g key={m.index}>
            <line x1={x(m.index)} x2={x(m.index)} y1={top} y2={height - bottom} className="plot-ground" />
            <text x={x(m.index) + 3} y={height - 6} className="plot-text">
              {m.text}
            </text>
          </g>
        ))}
        <line x1={left} x2={width - right} y1={height - bottom} y2={height - bottom} className="plot-ground" />
        <polygon points={bin} className="plot-bin" />
        <polyline points={line} className="plot-line" />
        <text
          x={width - right + 6}
          y={clear(y(s.used[last] ?? 0) + 4, shown ? y(limit ?? 0) + 4 : null)}
          className="plot-text plot-strong"
        >
          {size(s.used[last])} used
        </text>
        {shown && (
          <>
            <line x1={left} x2={width - right} y1={y(limit)} y2={y(limit)} className="plot-limit" />
            <text x={width - right + 6} y={y(limit) + 4} className="plot-text plot-limit-text">
              {s.reserve > 0 ? 'reserve begins' : 'full'}
            </text>
          </>
        )}
        {day !== null && <line x1={x(day)} x2={x(day)} y1={top} y2={height - bottom} className="plot-hand" />}
      </svg>
    </figure>
  );
}

/** Keeps one label from lying on another. */
const clear = (own: number, other: number | null) =>
  other === null || Math.abs(own - other) > 13 ? own : own >= other ? other + 13 : other - 13;

function months(dates: string[]): { index: number; text: string }[] {
  const all = dates
    .map((date, index) => ({ date, index }))
    .filter((d) => d.index > 0 && d.date.endsWith('-01'))
    .map((d) => ({
      index: d.index,
      text: new Date(`${d.date}T12:00Z`).toLocaleDateString(
        'en',
        d.date.slice(5, 7) === '01' ? { year: 'numeric', timeZone: 'UTC' } : { month: 'short', timeZone: 'UTC' },
      ),
    }));
  return all.length > 14 ? all.filter((_, i) => i % 3 === 0) : all;
}
