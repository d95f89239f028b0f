import { Button, Loader } from '@mantine/core';
import type { UseQueryResult } from '@tanstack/react-query';
import { useEffect } from 'react';

/** A page: its title, a line of facts, what can be done here, and the rest. */
export function Page(props: {
  title: string;
  facts?: React.ReactNode;
  doing?: React.ReactNode;
  children: React.ReactNode;
}) {
  useEffect(() => {
    document.title = `${props.title} · Iron Keep`;
  }, [props.title]);
  return (
    <>
      <header className="page-head">
        <h1>{props.title}</h1>
        <span className="facts">{props.facts}</span>
        <span className="doing">{props.doing}</span>
      </header>
      {props.children}
    </>
  );
}

/** Shows an answer when it is there; says what went wrong, and how to go on, when it is not. */
export function Answer<T>({ of, children }: { of: UseQueryResult<T>; children: (data: T) => React.ReactNode }) {
  if (of.data !== undefined) return children(of.data);
  if (of.error) {
    return (
      <Notice tone="failed" title="This could not be shown">
        {of.error.message}
        <div style={{ marginTop: 8 }}>
          <Button size="xs" variant="default" onClick={() => void of.refetch()}>
            Try again
          </Button>
        </div>
      </Notice>
    );
  }
  return <Loader size="sm" color="iron.5" aria-label="Loading" />;
}

export function Empty({ children }: { children: React.ReactNode }) {
  return <div className="empty">{children}</div>;
}

/** A refusal near the button that caused it. */
export function Problem({ error }: { error: Error | null }) {
  if (!error) return null;
  return <Notice tone="failed">{error.message}</Notice>;
}

/** Something that must be read before going on. */
export function Notice(props: { tone: 'failed' | 'warned'; title?: string; children: React.ReactNode }) {
  return (
    <div role="alert" className={`notice notice-${props.tone}`}>
      {props.title && <div className={`tone-${props.tone} notice-title`}>{props.title}</div>}
      {props.children}
    </div>
  );
}
