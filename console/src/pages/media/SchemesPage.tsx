import { Button, NumberInput, Radio, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, take, type Schemas } from '../../api/client';
import { useAct } from '../../api/hooks';
import { usePresent } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Answer, Page, Problem } from '../../ui/Page';
import { useFilters } from '../../ui/params';
import { Weeks, Year, day, useSpan, weekday } from './Nights';

type Scheme = Schemas['SchemeAnswer'];
type Play = Schemas['SchemePlayAnswer'];

const sentence = (words: string) => words[0]?.toUpperCase() + words.slice(1);

/** Disciplines of rotation media to start from, each played on the calendar before it is chosen. */
export function SchemesPage() {
  const schemes = useQuery({
    queryKey: ['schemes'],
    staleTime: Infinity,
    queryFn: () => take(api.GET('/api/v1/rotations/schemes')),
  });
  return (
    <Page title="Ready schemes" facts="media that take turns, by disciplines that have proved themselves">
      <Answer of={schemes}>{(all) => <Chosen all={all} />}</Answer>
    </Page>
  );
}

function Chosen({ all }: { all: Scheme[] }) {
  const { now, zone } = usePresent();
  const go = useNavigate();
  const [params, set] = useFilters();
  const chosen = all.find((s) => s.name === params.get('scheme')) ?? all[0];
  const { year, nights, choice } = useSpan();
  const today = new Date(now).toLocaleDateString('sv', { timeZone: zone });
  const [form, setForm] = useState({ set: 'evening', start: '20:00', first: today });
  const [numbers, setNumbers] = useState<Record<string, number>>({});
  const name = chosen?.name ?? '';
  const own = Object.fromEntries(
    (chosen?.numbers ?? []).flatMap((n) => {
      const given = numbers[`${name} ${n.name}`];
      return given === undefined ? [] : [[n.name, given]];
    }),
  );
  const body = { ...form, numbers: own };
  const [asked] = useDebouncedValue(JSON.stringify({ name, body }), 250);
  const play = useQuery({
    queryKey: ['scheme', asked, nights],
    placeholderData: (before) => before,
    queryFn: () => {
      const of = JSON.parse(asked) as { name: string; body: typeof body };
      return take(
        api.POST('/api/v1/rotations/schemes/{name}/preview', {
          params: { path: { name: of.name }, query: { nights } },
          body: of.body,
        }),
      );
    },
  });
  const add = useAct(() => take(api.POST('/api/v1/rotations/schemes/{name}', { params: { path: { name } }, body })));
  if (!chosen) return null;
  const settled = asked === JSON.stringify({ name, body }) && !play.isFetching;
  return (
    <div className="columns aside">
      <section className="sheet" aria-label="What it would be">
        <h2>
          {form.set || 'a set without a name'} <span className="facts">{chosen.title}</span>
          <span style={{ marginLeft: 'auto' }}>{choice}</span>
        </h2>
        <Answer of={play}>{(p) => <Shown of={p} name={form.set} today={today} year={year} />}</Answer>
      </section>
      <form
        className="sheet padded"
        aria-label="Scheme"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate(undefined, { onSuccess: () => void go('/media') });
        }}
      >
        <Radio.Group label="Scheme" value={chosen.name} onChange={(scheme) => set({ scheme })}>
          {all.map((s) => (
            <Radio key={s.name} value={s.name} label={s.title} size="xs" mt={6} />
          ))}
        </Radio.Group>
        <p className="soft" style={{ fontSize: 12.5 }}>
          {chosen.words}
        </p>
        {chosen.numbers.map((n) => (
          <NumberInput
            key={`${chosen.name} ${n.name}`}
            size="xs"
            mt={6}
            label={sentence(n.words)}
            description={`${n.least} to ${n.most}`}
            min={n.least}
            max={n.most}
            clampBehavior="none"
            allowDecimal={false}
            value={own[n.name] ?? n.usual}
            onChange={(value) => {
              if (typeof value === 'number') setNumbers({ ...numbers, [`${chosen.name} ${n.name}`]: value });
            }}
          />
        ))}
        <TextInput
          size="xs"
          mt={6}
          label="Name of the set"
          value={form.set}
          onChange={(e) => setForm({ ...form, set: e.currentTarget.value.trim() })}
        />
        <TextInput
          size="xs"
          mt={6}
          label="A night’s run begins at"
          value={form.start}
          onChange={(e) => setForm({ ...form, start: e.currentTarget.value.trim() })}
        />
        <TextInput
          size="xs"
          mt={6}
          label="First night"
          value={form.first}
          onChange={(e) => setForm({ ...form, first: e.currentTarget.value.trim() })}
        />
        <Problem error={add.error} />
        <Button
          type="submit"
          size="xs"
          mt={14}
          loading={add.isPending}
          disabled={!settled || !play.data || play.data.mistakes.length > 0}
        >
          Add to the charter
        </Button>
      </form>
    </div>
  );
}

function Shown({ of, name, today, year }: { of: Play; name: string; today: string; year: boolean }) {
  if (of.mistakes.length > 0)
    return (
      <div role="alert" className="padded">
        {of.mistakes.map((m) => (
          <p key={m} className="tone-failed" style={{ margin: '2px 0' }}>
            {m}
          </p>
        ))}
      </div>
    );
  const first = of.nights[0]?.date ?? today;
  // Six weeks begin on a Monday; what lies before the first night stays empty.
  const lead = weekday(first);
  return (
    <div className="padded">
      <p style={{ marginTop: 0 }}>
        It needs <b>{count(of.media, 'medium', 'media')}</b>. Once each has had its turn, they always hold{' '}
        <b>{count(of.points, 'night')}</b> or more, the oldest at least <b>{count(of.reachDays, 'day')}</b> back.
      </p>
      {year ? (
        <Year nights={of.nights} today={today} />
      ) : (
        <Weeks nights={of.nights.slice(0, 42 - lead)} today={today} within={name} />
      )}
      <div style={{ marginTop: 14 }}>
        <table role="table" className="rows stacks" aria-label="Groups">
          <thead>
            <tr>
              <th scope="col">Group</th>
              <th scope="col">Takes</th>
              <th scope="col">Media</th>
              <th scope="col">Protected for</th>
              <th scope="col">Filled for</th>
            </tr>
          </thead>
          <tbody>
            {of.groups.map((g) => (
              <tr key={g.group}>
                <td>{g.group}</td>
                <td>{g.serves}</td>
                <td>{g.media.length === 1 ? g.media[0] : `${g.media[0]} to ${g.media.at(-1)}`}</td>
                <td>{g.protectedFor}</td>
                <td>{g.fillWindow}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="soft" style={{ fontSize: 12.5 }}>
        Beginning on{' '}
        {day(first).toLocaleDateString('en-GB', { weekday: 'long', day: 'numeric', month: 'long', timeZone: 'UTC' })}. A
        medium is protected for as long as its turn allows.
      </p>
    </div>
  );
}
