import { Button } from '@mantine/core';
import { useState } from 'react';
import { Link } from 'react-router';
import type { Schemas } from '../../api/client';
import { useFind } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Answer } from '../../ui/Page';
import { Rows } from '../../ui/Rows';
import { Versions } from './Versions';

type FoundPath = Schemas['FoundPath'];

const folderOf = (path: string) => path.slice(0, path.lastIndexOf('/')) || '/';

/** Files found across copies: where, how many versions, and the way to each. */
export function Found({ words, job }: { words: string; job: string | undefined }) {
  const found = useFind(words, job);
  const [asked, setAsked] = useState<FoundPath>();
  return (
    <section className="sheet" aria-label="Found">
      <Answer of={found}>
        {(answer) => (
          <>
            <h2>
              {count(answer.found.length, 'path')}
              <span className="facts">
                in {count(answer.copiesSearched, 'copy', 'copies')}
                {!answer.complete && '; there is more: ask for a narrower name, or one job'}
              </span>
            </h2>
            <Rows<FoundPath>
              label="Found paths"
              rows={answer.found}
              rowKey={(f) => `${f.job} ${f.store} ${f.path}`}
              open={setAsked}
              empty={`No copy holds a “${words}”. A part of the name is enough; * and ? stand for anything.`}
              columns={[
                { title: 'path', cell: (f) => <span style={{ overflowWrap: 'anywhere' }}>{f.path}</span> },
                { title: 'job', cell: (f) => f.job },
                { title: 'store', cell: (f) => f.store },
                { title: 'size', num: true, cell: (f) => (f.kind === 'file' ? <Size bytes={f.size} /> : f.kind) },
                { title: 'modified', cell: (f) => <When at={f.modified} /> },
                {
                  title: 'versions',
                  num: true,
                  cell: (f) => (
                    <Button
                      size="compact-xs"
                      variant="default"
                      onClick={(e) => {
                        e.stopPropagation();
                        setAsked(f);
                      }}
                    >
                      {f.versions}
                    </Button>
                  ),
                },
                { title: 'copies', num: true, cell: (f) => f.copies },
                {
                  title: 'newest in',
                  cell: (f) => (
                    <Link
                      to={`/copies/${encodeURIComponent(f.newestCopy)}?path=${encodeURIComponent(folderOf(f.path))}`}
                      onClick={(e) => e.stopPropagation()}
                    >
                      <When at={f.newestTaken} />
                    </Link>
                  ),
                },
              ]}
            />
          </>
        )}
      </Answer>
      {asked && <Versions job={asked.job} store={asked.store} path={asked.path} close={() => setAsked(undefined)} />}
    </section>
  );
}
