import { useVirtualizer } from '@tanstack/react-virtual';
import { useRef } from 'react';

export interface Column<T> {
  title: string;
  num?: boolean;
  cut?: boolean;
  cell: (row: T) => React.ReactNode;
}

/** From how many rows on only those in view are drawn. */
const manyRows = 150;

/**
 * A list of rows for the keyboard and the mouse: j and k move, Enter opens. Long lists draw only what is in view. On a phone each row
 * becomes a few lines, the first column its title; hence the roles, which a table laid out anew would lose.
 */
export function Rows<T>(props: {
  label: string;
  columns: Column<T>[];
  rows: T[];
  rowKey: (row: T) => string;
  open?: (row: T) => void;
  empty: React.ReactNode;
  nearEnd?: () => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const many = props.rows.length > manyRows;
  // eslint-disable-next-line react-hooks/incompatible-library -- the virtualizer's functions are used in this render only
  const virtual = useVirtualizer({
    count: props.rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => 32,
    overscan: 12,
    enabled: many,
  });
  const inView = virtual.getVirtualItems();
  const first = many ? (inView[0]?.index ?? 0) : 0;
  const last = many ? (inView.at(-1)?.index ?? 0) : props.rows.length - 1;
  const above = many ? (inView[0]?.start ?? 0) : 0;
  const below = many ? virtual.getTotalSize() - (inView.at(-1)?.end ?? 0) : 0;

  const move = (event: React.KeyboardEvent) => {
    const row = (event.target as HTMLElement).closest('tr');
    const step = {
      j: 'nextElementSibling',
      ArrowDown: 'nextElementSibling',
      k: 'previousElementSibling',
      ArrowUp: 'previousElementSibling',
    } as const;
    const way = step[event.key as keyof typeof step];
    const next = way && row?.[way];
    if (next instanceof HTMLElement) {
      event.preventDefault();
      next.focus();
    }
  };
  const scrolled = () => {
    const at = box.current;
    if (at && at.scrollHeight - at.scrollTop - at.clientHeight < 600) props.nearEnd?.();
  };

  if (props.rows.length === 0) return <div className="empty">{props.empty}</div>;
  return (
    <div ref={box} onScroll={scrolled} className={many ? 'rows-box rows-many' : 'rows-box'}>
      <table role="table" className="rows stacks" aria-label={props.label} aria-rowcount={props.rows.length}>
        <thead role="rowgroup">
          <tr role="row">
            {props.columns.map((c) => (
              <th key={c.title} role="columnheader" className={c.num ? 'num' : undefined} scope="col">
                {c.title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody role="rowgroup" onKeyDown={move}>
          {above > 0 && <tr aria-hidden style={{ height: above }} />}
          {props.rows.slice(first, last + 1).map((row, i) => (
            <tr
              key={props.rowKey(row)}
              role="row"
              data-index={first + i}
              ref={many ? virtual.measureElement : undefined}
              tabIndex={0}
              className={props.open ? 'reach' : undefined}
              onClick={() => props.open?.(row)}
              onKeyDown={(e) => {
                if (e.key === 'Enter' && e.target === e.currentTarget) props.open?.(row);
              }}
            >
              {props.columns.map((c) => (
                <td
                  key={c.title}
                  role="cell"
                  data-label={c.title}
                  className={[c.num && 'num', c.cut && 'cut'].filter(Boolean).join(' ') || undefined}
                >
                  {c.cell(row)}
                </td>
              ))}
            </tr>
          ))}
          {below > 0 && <tr aria-hidden style={{ height: below }} />}
        </tbody>
      </table>
    </div>
  );
}
