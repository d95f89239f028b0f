import { Button, Select } from '@mantine/core';
import { useState } from 'react';
import { Link } from 'react-router';
import type { Schemas } from '../../api/client';
import { useDefinitions, useMakeReport, useReports } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { Answer, Empty, Page, Problem } from '../../ui/Page';
import { Rows } from '../../ui/Rows';

type Row = Schemas['ReportListAnswer'];

/** The reports that are kept, and making one now. */
export function ReportsPage() {
  const reports = useReports();
  const declared = useDefinitions();
  const make = useMakeReport();
  const [name, setName] = useState<string | null>(null);
  const names = (declared.data ?? []).filter((d) => d.kind === 'report').map((d) => d.name);
  const chosen = name ?? names[0] ?? null;
  return (
    <Page
      title="Reports"
      doing={
        <>
          {names.length > 0 && (
            <>
              <Select
                size="xs"
                w={220}
                aria-label="Report"
                data={names}
                value={chosen}
                allowDeselect={false}
                onChange={setName}
              />
              <Button size="xs" loading={make.isPending} onClick={() => chosen && make.mutate(chosen)}>
                Make it now
              </Button>
            </>
          )}
          <Button component={Link} to="/settings/report/new" size="xs" variant="default">
            New report
          </Button>
        </>
      }
    >
      <Problem error={make.error} />
      <Answer of={reports}>
        {(page) =>
          page.items.length === 0 ? (
            <Empty>
              No report has been made yet. A report in the charter is made every week or month, kept here, and told to
              whom it names.
            </Empty>
          ) : (
            <section className="sheet" aria-label="Reports">
              <Rows<Row>
                label="Reports"
                rows={page.items}
                rowKey={(r) => `${r.id}`}
                empty=""
                columns={[
                  {
                    title: 'report',
                    cell: (r) =>
                      r.madeAt && !r.problem ? (
                        <a href={`/api/v1/reports/${r.id}/html`} target="_blank" rel="noopener noreferrer">
                          {r.name}
                        </a>
                      ) : (
                        r.name
                      ),
                  },
                  { title: 'over', cell: (r) => `a ${r.every} from ${r.from}` },
                  {
                    title: 'made',
                    cell: (r) =>
                      r.problem ?? (r.madeAt ? <When at={r.madeAt} /> : <span className="soft">being made</span>),
                  },
                  {
                    title: '',
                    num: true,
                    cell: (r) =>
                      r.madeAt &&
                      !r.problem && (
                        <a href={`/api/v1/reports/${r.id}/csv`} download>
                          values
                        </a>
                      ),
                  },
                ]}
              />
            </section>
          )
        }
      </Answer>
    </Page>
  );
}
