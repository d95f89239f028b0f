import { Tooltip } from '@mantine/core';
import { useNavigate } from 'react-router';
import type { Schemas } from '../../api/client';
import { usePresent } from '../../ui/Facts';
import { short, size, took } from '../../ui/format';

type Point = Schemas['HistoryPoint'];

const width = 1000;
const height = 54;

/** Size, change and duration of a job's runs on one time axis: three small plots, each with its newest value written beside it. */
export function HistoryPlot({ points, watched }: { points: Point[]; watched?: boolean }) {
  const newest = points.at(-1);
  if (!newest || points.length < 2)
    return <div className="empty">Two runs make a history; this job has {points.length === 1 ? 'one' : 'none'}.</div>;
  return (
    <div className="plots">
      <Plot title="taken" points={points} value={(p) => p.selectedBytes} text={size} kind="line" />
      {!watched && <Plot title="new" points={points} value={(p) => p.newBytes} text={size} kind="bars" />}
      <Plot title="took" points={points} value={(p) => p.seconds} text={took} kind="line" />
    </div>
  );
}

function Plot(props: {
  title: string;
  points: Point[];
  value: (p: Point) => number;
  text: (value: number) => string;
  kind: 'line' | 'bars';
}) {
  const { zone } = usePresent();
  const navigate = useNavigate();
  const { points, value } = props;
  const first = Date.parse(points[0]?.at ?? '');
  const span = Math.max(1, Date.parse(points.at(-1)?.at ?? '') - first);
  const most = Math.max(...points.map(value), 1e-9);
  const x = (p: Point) => ((Date.parse(p.at) - first) / span) * (width - 16) + 8;
  const y = (p: Point) => height - 4 - (value(p) / most) * (height - 12);
  const off = (p: Point) => p.outcome === 'suspect' || p.outcome === 'failed';
  const last = points.at(-1) as Point;
  return (
    <>
      <div className="plot-name">
        <span className="soft">{props.title}</span>
        <b>{props.text(value(last))}</b>
      </div>
      <svg viewBox={`0 0 ${width} ${height}`} preserveAspectRatio="none" role="img" aria-label={describe(props)}>
        <line x1="0" x2={width} y1={height - 4} y2={height - 4} className="plot-ground" />
        {props.kind === 'line' && (
          <polyline points={points.map((p) => `${x(p)},${y(p)}`).join(' ')} className="plot-line" />
        )}
        {points.map((p) => (
          <Tooltip key={p.runId} label={`${short(p.at, zone)}: ${props.text(value(p))}, ${p.outcome}`} openDelay={30}>
            <rect
              x={x(p) - 3.5}
              width={7}
              y={props.kind === 'bars' ? Math.min(y(p), height - 5) : y(p) - 3}
              height={props.kind === 'bars' ? Math.max(1, height - 4 - y(p)) : 6}
              className={off(p) ? 'plot-off' : props.kind === 'bars' ? 'plot-bar' : 'plot-point'}
              onClick={() => void navigate(`/runs/${p.runId}`)}
            />
          </Tooltip>
        ))}
      </svg>
      <div className="plot-most soft">{props.text(most)}</div>
    </>
  );
}

const describe = (p: { title: string; points: Point[]; value: (p: Point) => number; text: (v: number) => string }) => {
  const values = p.points.map(p.value);
  return `${p.title}: from ${p.text(Math.min(...values))} to ${p.text(Math.max(...values))} over ${p.points.length} runs`;
};
