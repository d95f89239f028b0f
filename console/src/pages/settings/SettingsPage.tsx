import { Button, Menu } from '@mantine/core';
import { Link, useNavigate } from 'react-router';
import { useDefinitions, useSelfCheck } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { Answer, Page } from '../../ui/Page';
import { Rows } from '../../ui/Rows';
import { Status } from '../../ui/Status';
import { kinds, words } from './fieldSpecs';

/** Everything that is declared, one by one, and how the service itself is. */
export function SettingsPage() {
  const definitions = useDefinitions();
  const navigate = useNavigate();
  return (
    <Page
      title="Settings"
      doing={
        <>
          <Menu position="bottom-end">
            <Menu.Target>
              <Button size="xs" variant="default">
                New…
              </Button>
            </Menu.Target>
            <Menu.Dropdown>
              {kinds.map((k) => (
                <Menu.Item key={k} component={Link} to={`/settings/${k}/new`}>
                  New {words(k)}
                </Menu.Item>
              ))}
            </Menu.Dropdown>
          </Menu>
          <Button component={Link} to="/settings/charter" size="xs" variant="default">
            Charter as text
          </Button>
        </>
      }
    >
      <div className="columns wide-first">
        <section className="sheet" aria-label="What is declared">
          <Answer of={definitions}>
            {(all) => (
              <Rows
                label="Objects of the charter"
                rows={all}
                rowKey={(d) => `${d.kind} ${d.name}`}
                open={(d) => void navigate(`/settings/${d.kind}/${d.name}`)}
                empty="Nothing is declared."
                columns={[
                  {
                    title: 'name',
                    cell: (d) => (
                      <Link to={`/settings/${d.kind}/${d.name}`} onClick={(e) => e.stopPropagation()}>
                        {d.name}
                      </Link>
                    ),
                  },
                  { title: 'kind', cell: (d) => <span className="soft">{words(d.kind)}</span> },
                  {
                    title: 'says',
                    cut: true,
                    cell: (d) =>
                      Object.keys(d.fields).length === 0 ? null : (
                        <span className="soft">
                          {Object.entries(d.fields)
                            .map(([k, v]) => `${k}: ${v.join(', ')}`)
                            .join(' · ')}
                        </span>
                      ),
                  },
                ]}
              />
            )}
          </Answer>
        </section>
        <SelfCheck />
      </div>
    </Page>
  );
}

function SelfCheck() {
  const check = useSelfCheck();
  return (
    <section className="sheet" aria-label="The service itself">
      <Answer of={check}>
        {(c) => (
          <>
            <h2>
              The service <span className="facts">version {c.version}</span>
            </h2>
            <div style={{ padding: '10px 14px 4px' }}>
              <Status state={c.ready ? 'ok' : 'failed'}>{c.ready ? 'ready' : 'not ready'}</Status>{' '}
              <span className="soft">
                since <When at={c.startedAt} />
              </span>
            </div>
            {c.findings.map((f) => (
              <div key={f.what} style={{ padding: '4px 14px 6px' }}>
                <Status state={f.state === 'well' ? 'ok' : f.state}>{f.what}</Status>
                <div className="soft" style={{ paddingLeft: 20, overflowWrap: 'anywhere' }}>
                  {f.sentence}
                </div>
              </div>
            ))}
          </>
        )}
      </Answer>
    </section>
  );
}
