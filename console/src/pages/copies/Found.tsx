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

/** A path of a job with what each of its stores has of it, the newest first. */
interface Place {
  job: string;
  path: string;
  newest: FoundPath;
  inStores: FoundPath[];
}

const splitPath = (path: string) => {
  const at = path.lastIndexOf('/');
  return { folder: path.slice(0, at) || '/', name: path.slice(at + 1) };
};

/** One row a path: what is found in several stores stands together. */
export function placesOf(found: FoundPath[]): Place[] {
  const places = new Map<string, Place>();
  for (const f of found) {
    const key = `${f.job}\n${f.path}`;
    const place = places.get(key);
    if (!place) places.set(key, { job: f.job, path: f.path, newest: f, inStores: [f] });
    else {
      place.inStores.push(f);
      if (f.newestTaken > place.newest.newestTaken) place.newest = f;
    }
  }
  return [...places.values()];
}

/** Files found across copies: where, how many versions, and the way to each. */
export function Found({ words, job }: { words: string; job: string | undefined }) {
  const found = useFind(words, job);
  const [asked, setAsked] = useState<Place>();
  return (
    <section className="sheet" aria-label="Found">
      <Answer of={found}>
        {(answer) => {
          const places = placesOf(answer.found);
          return (
            <>
              <h2>
                {count(places.length, 'path')}
                <span className="facts">
                  in {count(answer.copiesSearched, 'copy', 'copies')}
                  {!answer.complete && '; there is more: ask for a narrower name, or one job'}
                </span>
              </h2>
              <Rows<Place>
                label="Found paths"
                rows={places}
                rowKey={(p) => `${p.job} ${p.path}`}
                open={setAsked}
                empty={`No copy holds “${words}”. A part of the name is enough; * and ? stand for anything.`}
                columns={[
                  {
                    title: 'path',
                    cell: (p) => (
                      <>
                        <span style={{ fontWeight: 550 }}>{splitPath(p.path).name}</span>
                        <div className="soft found-folder">{splitPath(p.path).folder}</div>
                      </>
                    ),
                  },
                  { title: 'job', cell: (p) => <span className="name">{p.job}</span> },
                  {
                    title: 'stores',
                    cell: (p) => (
                      <span className="name">
                        {p.inStores.map((f, i) => (
                          <span key={f.store}>
                            {i > 0 && ', '}
                            <Link
                              to={`/copies/${encodeURIComponent(f.newestCopy)}?path=${encodeURIComponent(splitPath(f.path).folder)}`}
                              onClick={(e) => e.stopPropagation()}
                            >
                              {f.store}
                            </Link>
                          </span>
                        ))}
                      </span>
                    ),
                  },
                  {
                    title: 'size',
                    num: true,
                    cell: (p) => (p.newest.kind === 'file' ? <Size bytes={p.newest.size} /> : p.newest.kind),
                  },
                  { title: 'modified', cell: (p) => <When at={p.newest.modified} /> },
                  {
                    title: 'versions',
                    num: true,
                    cell: (p) => (
                      <Button
                        size="compact-xs"
                        variant="default"
                        onClick={(e) => {
                          e.stopPropagation();
                          setAsked(p);
                        }}
                      >
                        {Math.max(...p.inStores.map((f) => f.versions))}
                      </Button>
                    ),
                  },
                  { title: 'copies', num: true, cell: (p) => p.inStores.reduce((n, f) => n + f.copies, 0) },
                  { title: 'newest', cell: (p) => <When at={p.newest.newestTaken} /> },
                ]}
              />
            </>
          );
        }}
      </Answer>
      {asked && (
        <Versions
          job={asked.job}
          stores={asked.inStores.map((f) => f.store)}
          path={asked.path}
          close={() => setAsked(undefined)}
        />
      )}
    </section>
  );
}
