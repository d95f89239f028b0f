import { Button } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import type { Schemas } from '../../api/client';
import { useAcknowledge, useAlert, useHoldExpiry, useKnow } from '../../api/hooks';
import { AskUntil } from '../../ui/Ask';
import { usePresent, When } from '../../ui/Facts';
import { count, sentence, short, took } from '../../ui/format';
import { Answer, Page, Problem } from '../../ui/Page';
import { Rows } from '../../ui/Rows';
import { Glyph, Status } from '../../ui/Status';
import { CloseDialog } from './CloseDialog';
import { Deeds } from './Deeds';
import { useRemedy } from './remedies';
import { RerunDialog } from './RerunDialog';
import { stakes } from './stakes';

type Whole = Schemas['AlertWholeAnswer'];

/** One matter with all that helps to settle it, so that nothing has to be looked up elsewhere at night. */
export function AlertPage() {
  const id = Number(useParams().id);
  const whole = useAlert(id);
  return (
    <Page
      title={sentence(whole.data?.alert.subject.words ?? `Alert ${id}`)}
      facts={whole.data && <Facts whole={whole.data} />}
      doing={whole.data && whole.data.alert.state !== 'closed' && <Doing whole={whole.data} />}
    >
      <Answer of={whole}>
        {(w) => (
          <div className="columns wide-first">
            <div className="columns">
              <Why whole={w} />
              {w.jobs.length > 0 && <Jobs whole={w} />}
              {w.copies.length > 0 && <Copies copies={w.copies} />}
            </div>
            <div className="columns">
              {w.tickets.length > 0 && <Tickets tickets={w.tickets} />}
              <Deeds alert={w.alert} deeds={w.deeds} />
              {w.timesBefore > 0 && <Before whole={w} />}
            </div>
          </div>
        )}
      </Answer>
    </Page>
  );
}

function Facts({ whole: { alert: a } }: { whole: Whole }) {
  return (
    <>
      {a.class}, {stakes[a.severity]}, since <When at={a.openedAt} />
      {a.count > 1 && `, ${a.count} times`}
      {a.closedAt && (
        <>
          , closed <When at={a.closedAt} />
        </>
      )}
    </>
  );
}

function Doing({ whole: { alert: a, jobs } }: { whole: Whole }) {
  const acknowledge = useAcknowledge();
  const know = useKnow();
  const [rerunning, { open: beginRerunning, close: endRerunning }] = useDisclosure(false);
  const remedy = useRemedy(a);
  const [knowing, { open: beginKnowing, close: endKnowing }] = useDisclosure(false);
  const hold = useHoldExpiry();
  const [holding, { open: beginHolding, close: endHolding }] = useDisclosure(false);
  // Of a cause that many share each job has its own page for that.
  const held = a.subject.kind === 'job' && jobs[0]?.newestGoodCopy ? a.subject.job : null;
  const [closing, { open: beginClosing, close: endClosing }] = useDisclosure(false);
  const several = jobs.filter((j) => !j.watched);
  return (
    <>
      {several.length > 0 && (
        <Button size="xs" onClick={beginRerunning}>
          {several.length > 1 ? `Run all ${several.length} again…` : 'Run again…'}
        </Button>
      )}
      {remedy?.act && !remedy.reruns && (
        <Button size="xs" variant="light" loading={remedy.pending ?? false} onClick={remedy.act}>
          {remedy.label}
        </Button>
      )}
      {remedy?.to && (
        <Button component={Link} to={remedy.to} size="xs" variant="light">
          {remedy.label}
        </Button>
      )}
      {(a.state === 'open' || a.state === 'known') && (
        <Button size="xs" variant="default" loading={acknowledge.isPending} onClick={() => acknowledge.mutate(a.id)}>
          Acknowledge
        </Button>
      )}
      <Button size="xs" variant="default" onClick={beginKnowing}>
        Known until…
      </Button>
      {held && (
        <Button size="xs" variant="default" onClick={beginHolding}>
          Hold expiry…
        </Button>
      )}
      <Button size="xs" variant="default" onClick={beginClosing}>
        Close…
      </Button>
      <Problem error={acknowledge.error ?? remedy?.error ?? null} />
      {rerunning && <RerunDialog id={a.id} close={endRerunning} />}
      {closing && <CloseDialog id={a.id} close={endClosing} />}
      {holding && held && (
        <AskUntil
          title={`Hold expiry of ${held}`}
          does="Nothing of it expires"
          days={7}
          pending={hold.isPending}
          error={hold.error}
          close={endHolding}
          act={(reason, until) =>
            hold.mutate(
              { name: held, on: a.subject.machine ?? undefined, reason, until, alertId: a.id },
              { onSuccess: endHolding },
            )
          }
        >
          No copy of this job expires before that day, whatever its policy says. Its page ends that sooner.
        </AskUntil>
      )}
      {knowing && (
        <AskUntil
          title="Known until"
          does="Nobody needs to be told"
          days={3}
          pending={know.isPending}
          error={know.error}
          close={endKnowing}
          act={(reason, until) => know.mutate({ id: a.id, reason, until }, { onSuccess: endKnowing })}
        >
          Nobody is told of it before that day, whatever happens to it; it still counts, and still closes by itself. If
          it is there afterwards, it is told again.
        </AskUntil>
      )}
    </>
  );
}

function Why({ whole: { alert: a, lines: all } }: { whole: Whole }) {
  const { zone } = usePresent();
  // A run's last line is mostly the sentence that stands above it.
  const lines = all.filter((line) => line.text !== a.message);
  return (
    <section className="sheet" aria-label="Why">
      <h2>
        Why
        {a.runId !== null && (
          <span className="facts">
            <Link to={`/runs/${a.runId}`}>run {a.runId}</Link>
          </span>
        )}
      </h2>
      <div className="alert-why">
        <p>{a.message}</p>
        {lines.length > 0 && (
          <div className="log">
            {lines.map((line, i) => (
              <div key={i}>
                <span className="at">{line.at.slice(11, 19)}</span>{' '}
                <Glyph state={line.severity === 'error' ? 'failed' : 'warned'} label={line.severity} /> {line.text}
              </div>
            ))}
          </div>
        )}
        {a.state !== 'closed' && (
          <p>
            <b>What to do.</b> {a.remedy}
          </p>
        )}
        {a.state === 'known' && (
          <p>
            Known to {a.knownBy} until {a.knownUntil && short(a.knownUntil, zone)}: {a.knownReason}
          </p>
        )}
        {a.closedBy && (
          <p>
            Closed by {a.closedBy}: {a.closedReason}
          </p>
        )}
      </div>
    </section>
  );
}

/** Where it is a ticket in an outside desk. */
function Tickets({ tickets }: { tickets: Schemas['AlertTicketAnswer'][] }) {
  return (
    <section className="sheet" aria-label="Tickets">
      <h2>{count(tickets.length, 'ticket')}</h2>
      {tickets.map((t, i) => (
        <p key={i} className="alert-ticket">
          {t.page ? (
            <a href={t.page} target="_blank" rel="noopener noreferrer">
              {t.reference}
            </a>
          ) : (
            (t.reference ?? 'Without a reference')
          )}{' '}
          in {t.channel}{' '}
          <span className="soft">
            opened <When at={t.openedAt} />
            {t.closedAt && (
              <>
                , closed <When at={t.closedAt} />
              </>
            )}
          </span>
        </p>
      ))}
    </section>
  );
}

/** What a damaged store cannot give back, copy by copy; the files unfold. */
function Copies({ copies }: { copies: Schemas['AlertCopyAnswer'][] }) {
  return (
    <section className="sheet" aria-label="Copies">
      <h2>
        Copies that cannot be given back whole <span className="facts">{count(copies.length, 'copy', 'copies')}</span>
      </h2>
      {copies.map((c) => (
        <details key={c.id} className="alert-copy">
          <summary>
            <Link to={`/copies/${encodeURIComponent(c.id)}`}>{c.id}</Link> of {c.job}{' '}
            <span className="soft">
              taken <When at={c.taken} />, {count(c.files, 'file')}
            </span>
          </summary>
          {c.paths.map((path) => (
            <div key={path} className="mono">
              {path}
            </div>
          ))}
          {c.files > c.paths.length && <div className="soft">and {count(c.files - c.paths.length, 'more file')}</div>}
        </details>
      ))}
    </section>
  );
}

function Jobs({ whole: { alert: a, jobs } }: { whole: Whole }) {
  const [rerunning, setRerunning] = useState<string>();
  return (
    <section className="sheet" aria-label="Jobs">
      <h2>{jobs.length === 1 ? 'The job' : `${jobs.length} jobs it stopped`}</h2>
      {rerunning && <RerunDialog id={a.id} job={rerunning} close={() => setRerunning(undefined)} />}
      <Rows<Schemas['AlertJobAnswer']>
        label="Jobs it concerns"
        rows={jobs}
        rowKey={(j) => `${j.job} ${j.machine}`}
        empty=""
        columns={[
          {
            title: 'job',
            cell: (j) => <Link to={`/jobs/${j.job}${j.machine ? `?on=${j.machine}` : ''}`}>{j.job}</Link>,
          },
          { title: 'machine', cell: (j) => <span className="name">{j.machine}</span> },
          {
            title: 'newest good copy',
            cell: (j) => (
              <>
                <When at={j.newestGoodCopy} />
                {j.freshWithin && (
                  <span className={j.stale ? 'tone-failed' : 'soft'}> of {j.freshWithin} promised</span>
                )}
              </>
            ),
          },
          {
            title: 'last run',
            cell: (j) =>
              j.lastRun && (
                <Link to={`/runs/${j.lastRun.id}`}>
                  <Status state={j.lastRun.outcome ?? j.lastRun.state} />
                </Link>
              ),
          },
          {
            title: '',
            num: true,
            cell: (j) =>
              !j.watched && (
                <Button
                  size="compact-xs"
                  variant="default"
                  aria-label={`Run ${j.job} again`}
                  disabled={j.lastRun !== null && j.lastRun.state !== 'ended'}
                  onClick={() => setRerunning(j.job)}
                >
                  Run again…
                </Button>
              ),
          },
        ]}
      />
    </section>
  );
}

/** How often it happened within a year, and what ended it. */
function Before({ whole: { before, timesBefore } }: { whole: Whole }) {
  return (
    <section className="sheet" aria-label="Before">
      <h2>
        The same before <span className="facts">{count(timesBefore, 'time')} within a year</span>
      </h2>
      {before.map((b) => (
        <div key={b.id} className="deed">
          <div>
            <Link to={`/alerts/${b.id}`}>alert {b.id}</Link> <When at={b.openedAt} />, open for {took(b.openSeconds)}
          </div>
          <div className="soft">{b.closedBy ? `Closed by ${b.closedBy}: ${b.closedReason}` : 'Ended by itself.'}</div>
          {b.tried.map((t) => (
            <div key={t.runId}>
              {t.by} ran it again: <Link to={`/runs/${t.runId}`}>run {t.runId}</Link>{' '}
              {(t.outcome ?? t.state) && <Status state={t.outcome ?? t.state ?? ''} />}
            </div>
          ))}
          {b.notes.map((note) => (
            <div key={note}>{note}</div>
          ))}
        </div>
      ))}
    </section>
  );
}
