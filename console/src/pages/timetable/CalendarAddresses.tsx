import { Button, CopyButton, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, take } from '../../api/client';
import { useAct } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { Answer, Notice, Problem } from '../../ui/Page';

/** Addresses from which calendar programs read the timetable: made, told once, taken back. */
export function CalendarAddresses() {
  const addresses = useQuery({
    queryKey: ['timetable', 'addresses'],
    queryFn: () => take(api.GET('/api/v1/timetable/addresses')),
  });
  const [label, setLabel] = useState('');
  const make = useAct((name: string) => take(api.POST('/api/v1/timetable/addresses', { body: { label: name } })));
  const remove = useAct((id: number) =>
    take(api.DELETE('/api/v1/timetable/addresses/{id}', { params: { path: { id } } })),
  );
  const address = make.data && `${window.location.origin}${make.data.path}`;
  return (
    <section className="sheet" aria-label="In a calendar program">
      <h2>
        In a calendar program
        <span className="facts">
          each address opens the timetable and nothing else ·{' '}
          <a href="/api/v1/timetable.ics">the coming 60 days as a file</a>
        </span>
      </h2>
      <Answer of={addresses}>
        {(all) =>
          all.map((f) => (
            <div key={f.id} className="line">
              <b>{f.label}</b>
              <span className="soft">
                made by {f.by} <When at={f.madeAt} />, last read <When at={f.lastReadAt} />
              </span>
              <Button size="compact-xs" variant="default" ml="auto" onClick={() => remove.mutate(f.id)}>
                Revoke
              </Button>
            </div>
          ))
        }
      </Answer>
      {address && (
        <div style={{ padding: '0 14px' }}>
          <Notice tone="warned" title="This address is shown once">
            <span className="mono">{address}</span>{' '}
            <CopyButton value={address}>
              {({ copied, copy }) => (
                <Button size="compact-xs" variant="default" onClick={copy}>
                  {copied ? 'Copied' : 'Copy'}
                </Button>
              )}
            </CopyButton>
            <div className="soft">
              Whoever has it can read the timetable. Give it to one program; take it back here.
            </div>
          </Notice>
        </div>
      )}
      <form
        className="line"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(label.trim(), { onSuccess: () => setLabel('') });
        }}
      >
        <TextInput
          size="xs"
          aria-label="What a new address is for"
          placeholder="wall calendar"
          value={label}
          onChange={(e) => setLabel(e.currentTarget.value)}
        />
        <Button size="xs" type="submit" variant="default" disabled={label.trim() === ''} loading={make.isPending}>
          Make an address
        </Button>
        <Problem error={make.error ?? remove.error} />
      </form>
    </section>
  );
}
