import { Button, Textarea } from '@mantine/core';
import { useState } from 'react';
import { Link } from 'react-router';
import type { Alert, Schemas } from '../../api/client';
import { useNote } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { Status } from '../../ui/Status';
import { Problem } from '../../ui/Page';

type Deed = Schemas['AlertDeedAnswer'];

const words: Record<Deed['kind'], string> = {
  opened: 'Opened',
  reopened: 'Opened again',
  told: 'Told',
  ticket: 'Ticket',
  gathered: 'Gathered',
  escalated: 'Told to others',
  acknowledged: 'Acknowledged',
  known: 'Known',
  'known-over': 'Known no longer',
  rerun: 'Run again',
  noted: 'Note',
  closed: 'Closed',
};

/** What happened to an alert, the newest first, and a place for a person's words. */
export function Deeds({ alert, deeds }: { alert: Alert; deeds: Deed[] }) {
  const note = useNote();
  const [text, setText] = useState('');
  return (
    <section className="sheet" aria-label="What was done">
      <h2>What was done</h2>
      <form
        className="deed"
        onSubmit={(e) => {
          e.preventDefault();
          note.mutate({ id: alert.id, words: text }, { onSuccess: () => setText('') });
        }}
      >
        <Textarea
          size="xs"
          autosize
          aria-label="Note"
          placeholder="What you found, or what helped"
          value={text}
          onChange={(e) => setText(e.currentTarget.value)}
        />
        <Problem error={note.error} />
        <Button
          type="submit"
          size="compact-xs"
          variant="default"
          mt={6}
          disabled={text.trim() === ''}
          loading={note.isPending}
        >
          Add the note
        </Button>
      </form>
      {[...deeds].reverse().map((d, i) => (
        <div key={i} className="deed">
          <b>{words[d.kind]}</b>
          {d.by && ` by ${d.by}`}{' '}
          <span className="soft">
            <When at={d.at} />
          </span>
          {d.runId !== null && (
            <>
              {' · '}
              <Link to={`/runs/${d.runId}`}>run {d.runId}</Link>{' '}
              {d.kind === 'rerun' && (d.outcome ?? d.runState) && <Status state={d.outcome ?? d.runState ?? ''} />}
            </>
          )}
          {d.words && d.words !== alert.message && (
            <div className={d.kind === 'noted' ? undefined : 'soft'}>{d.words}</div>
          )}
        </div>
      ))}
    </section>
  );
}
