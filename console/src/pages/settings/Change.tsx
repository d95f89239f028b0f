import type { Schemas } from '../../api/client';

const markOf: Record<string, string> = { added: '+', removed: '−', changed: '~' };

/** One object that differs, with the fields that do. */
export function Change({ change }: { change: Schemas['CharterChangeAnswer'] }) {
  return (
    <div style={{ padding: '8px 14px', borderBottom: '1px solid var(--line)' }}>
      <span className="mono">{markOf[change.change]}</span> {change.object} <b>{change.name}</b>{' '}
      <span className="soft">{change.change}</span>
      {change.fields.map((f) => (
        <div key={f.field} className="soft" style={{ paddingLeft: 18 }}>
          {f.field}: {f.before ?? 'none'} → {f.after ?? 'none'}
        </div>
      ))}
    </div>
  );
}
