import { Checkbox } from '@mantine/core';
import { Status } from '../../ui/Status';

/** What a change means for copies that are there, and the box that says that it is meant. */
export function Means(props: { of: string[]; agreed: boolean; agree: (yes: boolean) => void }) {
  if (props.of.length === 0) return null;
  return (
    <div role="note" style={{ padding: '8px 14px', borderBottom: '1px solid var(--line)' }}>
      {props.of.map((sentence) => (
        <div key={sentence}>
          <Status state="warned">Copies</Status> {sentence}.
        </div>
      ))}
      <Checkbox
        mt="xs"
        size="xs"
        label="I understand and want this"
        checked={props.agreed}
        onChange={(e) => props.agree(e.currentTarget.checked)}
      />
    </div>
  );
}
