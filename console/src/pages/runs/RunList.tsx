import { useNavigate } from 'react-router';
import type { Run } from '../../api/client';
import { Size, When } from '../../ui/Facts';
import { took } from '../../ui/format';
import { Rows } from '../../ui/Rows';
import { Status } from '../../ui/Status';

export function RunList({ runs, empty }: { runs: Run[]; empty: React.ReactNode }) {
  const navigate = useNavigate();
  return (
    <Rows
      label="Runs"
      rows={runs}
      rowKey={(r) => String(r.id)}
      open={(r) => void navigate(`/runs/${r.id}`)}
      empty={empty}
      columns={[
        { title: 'run', num: true, cell: (r) => r.id },
        { title: 'what', cell: (r) => r.kind },
        { title: 'outcome', cell: (r) => <Status state={r.outcome ?? r.state} /> },
        { title: 'began', cell: (r) => <When at={r.began ?? r.queued} /> },
        { title: 'took', num: true, cell: (r) => took(r.figures.elapsedSeconds) },
        {
          title: 'taken',
          num: true,
          cell: (r) => (r.kind === 'backup' ? <Size bytes={r.figures.selectedBytes} /> : ''),
        },
        { title: 'new', num: true, cell: (r) => (r.kind === 'backup' ? <Size bytes={r.figures.newBytes} /> : '') },
        {
          title: '',
          cut: true,
          cell: (r) => (
            <span className="soft" title={r.sentence ?? ''}>
              {r.sentence}
            </span>
          ),
        },
      ]}
    />
  );
}
