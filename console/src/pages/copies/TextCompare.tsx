import { MergeView } from '@codemirror/merge';
import { EditorState } from '@codemirror/state';
import { EditorView, lineNumbers } from '@codemirror/view';
import { Modal } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef } from 'react';
import { api, take, type Copy } from '../../api/client';
import { look } from '../../editor/look';
import { When } from '../../ui/Facts';
import { Answer, Notice } from '../../ui/Page';

const none = { text: '', reason: null };

/** A text file of two copies side by side; what did not change is folded away. */
export function TextCompare(props: { before: Copy; after: Copy; path: string; close: () => void }) {
  const { before, after, path } = props;
  const texts = useQuery({
    queryKey: ['texts', before.id, after.id, before.store, path],
    staleTime: Infinity,
    retry: false,
    queryFn: () => Promise.all([textOf(before, path), textOf(after, path)]),
  });
  return (
    <Modal opened onClose={props.close} title={path.slice(path.lastIndexOf('/') + 1)} size="95%">
      <Answer of={texts}>
        {([was, is]) =>
          was.text === null || is.text === null ? (
            <Notice tone="warned">This file cannot be shown side by side: {was.reason ?? is.reason}.</Notice>
          ) : (
            <>
              <div className="sides soft">
                <span>
                  {before.id}, <When at={before.taken} />
                </span>
                <span>
                  {after.id}, <When at={after.taken} />
                </span>
              </div>
              <Sides was={was.text} is={is.text} />
            </>
          )
        }
      </Answer>
    </Modal>
  );
}

/** A file that one of the copies does not hold is empty there. */
async function textOf(copy: Copy, path: string): Promise<{ text: string | null; reason: string | null }> {
  const asked = await api.GET('/api/v1/copies/{id}/text', {
    params: { path: { id: copy.id }, query: { path, store: copy.store } },
  });
  return asked.response.status === 404 ? none : take(Promise.resolve(asked));
}

function Sides({ was, is }: { was: string; is: string }) {
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const shown = (label: string) => [
      lineNumbers(),
      EditorView.editable.of(false),
      EditorState.readOnly.of(true),
      EditorView.lineWrapping,
      EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0' }),
      look,
    ];
    const view = new MergeView({
      parent: box.current as HTMLDivElement,
      a: { doc: was, extensions: shown('Before') },
      b: { doc: is, extensions: shown('After') },
      collapseUnchanged: { margin: 3, minSize: 6 },
      gutter: true,
    });
    return () => view.destroy();
  }, [was, is]);
  return <div ref={box} className="merge" />;
}
