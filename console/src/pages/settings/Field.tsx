import { Autocomplete, Button, MultiSelect, Select, Textarea, TextInput } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import type { Schemas } from '../../api/client';
import { useDefinitions } from '../../api/hooks';
import { FolderPicker } from './FolderPicker';
import { kindsOf, words, type FieldSpec } from './fieldSpecs';

interface FieldProps {
  spec: FieldSpec;
  /** What the charter's language says of it. */
  takes: Schemas['CharterKeyAnswer'];
  values: string[];
  mistake: string | undefined;
  set: (values: string[]) => void;
}

const zones = Intl.supportedValuesOf('timeZone');

/** One field: a choice where there is something to choose from, free text where text is meant. */
export function Field({ spec, takes, values, mistake, set }: FieldProps) {
  const definitions = useDefinitions();
  const [picking, { open: pick, close: endPicking }] = useDisclosure(false);
  const shared = {
    size: 'xs',
    label: spec.label,
    description: spec.help,
    placeholder: spec.example,
    error: mistake,
  };
  const one = (value: string | null) => set(value ? [value] : []);
  if (spec.whole) return <Wholes {...shared} values={values} set={set} />;
  if (!spec.free && (takes.of || takes.choices.length > 0)) {
    const known = takes.of
      ? (definitions.data ?? []).filter((d) => kindsOf(takes.of ?? '').includes(d.kind)).map((d) => d.name)
      : takes.choices;
    // What is named and not there stays visible, with its mistake.
    const data = [...new Set([...known, ...values])];
    const empty = takes.of ? `There is no ${words(takes.of)} yet` : 'Nothing of that name';
    return takes.list ? (
      <MultiSelect
        {...shared}
        data={data}
        value={values}
        onChange={set}
        searchable
        clearable
        nothingFoundMessage={empty}
        placeholder={values.length === 0 ? 'Choose…' : undefined}
      />
    ) : (
      <Select
        {...shared}
        data={data}
        value={values[0] ?? null}
        onChange={one}
        searchable={known.length > 6}
        clearable
        nothingFoundMessage={empty}
        placeholder="Choose…"
      />
    );
  }
  if (spec.zone) return <Autocomplete {...shared} data={zones} limit={30} value={values[0] ?? ''} onChange={one} />;
  const input = takes.list ? (
    <Textarea
      {...shared}
      autosize
      value={values.join('\n')}
      onChange={(e) => set(e.currentTarget.value === '' ? [] : e.currentTarget.value.split('\n'))}
    />
  ) : spec.long ? (
    <Textarea {...shared} autosize value={values[0] ?? ''} onChange={(e) => one(e.currentTarget.value)} />
  ) : (
    <TextInput {...shared} value={values[0] ?? ''} onChange={(e) => one(e.currentTarget.value)} />
  );
  if (!spec.folder) return input;
  return (
    <div>
      {input}
      <Button
        size="compact-xs"
        variant="default"
        mt={4}
        aria-label={`Choose a folder for ${spec.label}`}
        onClick={pick}
      >
        Choose a folder…
      </Button>
      {picking && (
        <FolderPicker
          start={values.at(-1) ?? '/'}
          close={endPicking}
          choose={(path) => {
            set(takes.list ? [...values.filter((v) => v.trim() !== '' && v !== path), path] : [path]);
            endPicking();
          }}
        />
      )}
    </div>
  );
}

/** Values of several lines each, which can be removed one by one. */
function Wholes(props: {
  label: string;
  description?: string | undefined;
  error?: string | undefined;
  values: string[];
  set: (values: string[]) => void;
}) {
  return (
    <div>
      <div style={{ fontSize: 12, fontWeight: 500 }}>{props.label}</div>
      {props.description && (
        <div className="soft" style={{ fontSize: 12 }}>
          {props.description}
        </div>
      )}
      {props.values.map((v, i) => (
        <div key={i} style={{ display: 'flex', gap: 8, alignItems: 'baseline' }}>
          <span className="mono" style={{ flex: 1, fontSize: 12 }}>
            {v.split('\n')[0]} <span className="soft">({v.split('\n').length - 1} lines)</span>
          </span>
          <Button
            type="button"
            size="compact-xs"
            variant="subtle"
            color="gray"
            onClick={() => props.set(props.values.filter((_, n) => n !== i))}
          >
            Remove
          </Button>
        </div>
      ))}
      {props.error && (
        <div className="tone-failed" style={{ fontSize: 12 }}>
          {props.error}
        </div>
      )}
    </div>
  );
}
