import { useNavigate } from 'react-router';
import { useWaiting } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Answer, Page } from '../../ui/Page';
import { Rows } from '../../ui/Rows';

/** The runs that wait, in the order in which they would begin: for what, and about how long. */
export function WaitingPage() {
  const waiting = useWaiting();
  const navigate = useNavigate();
  return (
    <Page
      title="Waiting runs"
      facts={waiting.data && `${count(waiting.data.count, 'run')} waiting, ${waiting.data.atWork} at work`}
    >
      <section className="sheet" aria-label="Waiting runs">
        <Answer of={waiting}>
          {(all) => (
            <>
              <Rows
                label="Waiting runs"
                rows={all.runs}
                rowKey={(r) => String(r.id)}
                open={(r) => void navigate(`/runs/${r.id}`)}
                empty="No run waits."
                columns={[
                  { title: 'run', num: true, cell: (r) => r.id },
                  {
                    title: 'what',
                    cell: (r) => (r.kind === 'backup' ? r.job : `${r.kind} ${r.job ?? r.store ?? ''}`),
                  },
                  { title: 'machine', cell: (r) => r.machine },
                  { title: 'waits for', cell: (r) => r.waitsFor },
                  {
                    title: 'begins about',
                    cell: (r) => (r.aboutAt ? <When at={r.aboutAt} /> : <span className="soft">cannot be told</span>),
                  },
                  { title: 'importance', num: true, cell: (r) => r.importance },
                  { title: 'due', cell: (r) => r.due && <When at={r.due} /> },
                ]}
              />
              {all.count > all.runs.length && <div className="empty">and {all.count - all.runs.length} more</div>}
            </>
          )}
        </Answer>
      </section>
    </Page>
  );
}
