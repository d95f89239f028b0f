import { Button, SegmentedControl, Select, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { Link } from 'react-router';
import { api, take } from '../../api/client';
import { useAct, useAlerts, useChannels } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Answer, Empty, Page, Problem } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Status } from '../../ui/Status';
import { AlertItem } from './AlertItem';
import { stakes } from './stakes';

const classes =
  'unsound surge clock service stale untold failed down braked-prune nearly-full overdue suspect missed sign-ins silent'.split(
    ' ',
  );

export function AlertsPage() {
  const [params, set] = useFilters();
  const state = params.get('state') ?? 'open';
  const kind = params.get('class');
  const severity = params.get('severity');
  const find = params.get('find') ?? '';
  const [settled] = useDebouncedValue(find, 250);
  const alerts = useAlerts({
    state: state === 'all' ? undefined : state,
    class: kind ?? undefined,
    severity: severity ?? undefined,
    find: settled || undefined,
  });
  return (
    <Page
      title="Alerts"
      facts={alerts.data && count(alerts.data.items.length, 'alert')}
      doing={
        <>
          <Button component={Link} to="/alerts/who" size="xs" variant="default">
            Who is told
          </Button>
          <Select
            size="xs"
            w={170}
            clearable
            placeholder="Every class"
            aria-label="Class"
            data={classes}
            value={kind}
            onChange={(value) => set({ class: value })}
          />
          <Select
            size="xs"
            w={150}
            clearable
            placeholder="Every severity"
            aria-label="Severity"
            data={Object.keys(stakes).map((value) => ({ value, label: value.replace('-', ' ') }))}
            value={severity}
            onChange={(value) => set({ severity: value })}
          />
          <TextInput
            data-search
            size="xs"
            w={170}
            placeholder="Find in what they say"
            aria-label="Find alerts"
            value={find}
            onChange={(e) => set({ find: e.currentTarget.value })}
          />
          <SegmentedControl
            size="xs"
            aria-label="State"
            value={state}
            onChange={(value) => set({ state: value === 'open' ? null : value })}
            data={[
              { value: 'open', label: 'Open' },
              { value: 'closed', label: 'Closed' },
              { value: 'all', label: 'All' },
            ]}
          />
        </>
      }
    >
      <div className="columns aside">
        <section className="sheet alerts" aria-label="Alerts">
          <Answer of={alerts}>
            {(page) =>
              page.items.length === 0 ? (
                <Empty>
                  {state === 'open' && !kind && !severity && !find
                    ? 'Nothing is open.'
                    : 'Nothing fits; choose another class, state or word.'}
                </Empty>
              ) : (
                page.items.map((a) => <AlertItem key={a.id} alert={a} />)
              )
            }
          </Answer>
        </section>
        <Channels />
      </div>
    </Page>
  );
}

/** Who is told, and whether it arrives. */
function Channels() {
  const channels = useChannels();
  const test = useAct((name: string) => take(api.POST('/api/v1/channels/{name}/test', { params: { path: { name } } })));
  return (
    <section className="sheet" aria-label="Channels">
      <h2>Channels</h2>
      <Answer of={channels}>
        {(all) =>
          all.length === 0 ? (
            <Empty>
              Nobody is told of anything. <Link to="/settings/channel/new">Make a channel</Link>.
            </Empty>
          ) : (
            all.map((c) => (
              <div key={c.name} style={{ padding: '10px 14px', borderBottom: '1px solid var(--line)' }}>
                <div style={{ display: 'flex', gap: 8, alignItems: 'baseline' }}>
                  <Link to={`/settings/channel/${c.name}`} style={{ fontWeight: 600 }}>
                    {c.name}
                  </Link>
                  <span className="soft">{c.kind}</span>
                  <Button
                    size="compact-xs"
                    variant="default"
                    style={{ marginLeft: 'auto' }}
                    loading={test.isPending && test.variables === c.name}
                    onClick={() => test.mutate(c.name)}
                  >
                    Try it
                  </Button>
                </div>
                <div className="soft" style={{ overflowWrap: 'anywhere' }}>
                  {c.to}
                </div>
                {c.problem ? <Status state="failed">{c.problem}</Status> : null}
                <div className="soft">
                  last sent <When at={c.lastSent} />
                  {c.waiting > 0 && `, ${c.waiting} waiting`}
                </div>
                {test.data && test.variables === c.name && (
                  <Status state={test.data.sent ? 'ok' : 'failed'}>
                    {test.data.sent ? 'the test went through' : test.data.problem}
                  </Status>
                )}
              </div>
            ))
          )
        }
      </Answer>
      <Problem error={test.error} />
    </section>
  );
}
