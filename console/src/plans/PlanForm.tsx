import { Autocomplete, Checkbox, Select, TagsInput, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { type ComponentProps, useEffect, useState } from 'react';
import type { Document } from 'yaml';
import { api, type Schemas, take } from '../api/client';
import { ConditionField } from '../parts/ConditionField';
import { isAlone, isSaid, lengthAt, type Path, textAt, textsAt, understood, type Value, withSwapped, withValue } from './planText';

interface Field {
  /** The path of the field within the plan, or within an entry of a list. */
  at: string;
  label: string;
  kind: 'text' | 'whole' | 'day' | 'condition' | 'texts' | 'flag' | 'choice';
  hint?: string;
  offers?: string[];
}

interface List {
  title: string;
  at: string;
  /** The name of one entry. */
  one: string;
  fields: Field[];
  /** The value of a new entry. */
  fresh: Value;
  /** Whether the order of the entries matters. */
  inOrder?: boolean;
}

/** A plan's fields as a form. Each change is made in the text and leaves the rest of it as it is. */
export function PlanForm({ text, isNew, onChange }: { text: string; isNew: boolean; onChange: (text: string) => void }) {
  const doc = understood(text);
  const catalogue = useQuery({ queryKey: ['catalogue'], staleTime: 60_000, queryFn: () => take(api.GET('/api/v1/catalogue')) });
  const sites = useValues('site');
  const groups = useValues('group');
  const product = catalogue.data?.find((p) => p.name === textAt(doc, ['target', 'product']));
  const set = (path: Path, value: Value | undefined) => onChange(withValue(text, path, value));
  /** Removing the last approver keeps 'approval: yes'. */
  const setApproval = (path: Path, value: Value | undefined) =>
    value === undefined && path.length > 1 && isAlone(doc, path) ? set(['approval'], 'yes') : set(path, value);
  const section = (fields: Field[]) => (
    <div className="fields">
      {fields.map((f) => (
        <Entry key={f.at} field={f} doc={doc} path={f.at.split('.')} onSet={f.at.startsWith('approval') ? setApproval : set} />
      ))}
    </div>
  );
  const toNext = (path: Path, at: number) => onChange(withSwapped(text, path, at));
  const list = (of: List) => <Entries of={of} doc={doc} onSet={set} onToNext={toNext} />;
  const whom: Field[] = [
    { at: 'sites', label: 'Sites', kind: 'texts', offers: sites },
    { at: 'groups', label: 'Groups', kind: 'texts', offers: groups },
    { at: 'machines', label: 'Machines', kind: 'texts' },
  ];
  const when: Field[] = [
    { at: 'weekly', label: 'Each week', kind: 'texts', hint: 'Mon-Fri 20:00-05:00' },
    { at: 'days', label: 'Days', kind: 'texts', hint: '2027-02-05..2027-02-07' },
    { at: 'calendar', label: 'Calendar', kind: 'text' },
    { at: 'zone', label: 'Zone', kind: 'text', hint: 'Europe/London' },
  ];
  const zone = textAt(doc, ['windows', 0, 'zone']) || Intl.DateTimeFormat().resolvedOptions().timeZone;
  return (
    <div className="plan-form">
      <section className="card">
        <h2>Target, scope and methods</h2>
        {section([
          ...(isNew ? [{ at: 'plan', label: 'Name of the plan', kind: 'text', hint: 'winter-crossing' } as Field] : []),
          { at: 'target.product', label: 'Product', kind: 'choice', offers: catalogue.data?.map((p) => p.name) },
          {
            at: 'target.release',
            label: 'To release',
            kind: 'choice',
            offers: product?.releases.filter((r) => r.status !== 'withdrawn').map((r) => r.version),
          },
          {
            at: 'target.build',
            label: 'Earliest build (empty: any)',
            kind: 'text',
            hint: product?.releases.find((r) => r.version === textAt(doc, ['target', 'release']))?.builds.at(-1)?.version,
          },
          { at: 'preserves', label: 'Must be preserved', kind: 'choice', hint: 'full', offers: ['full', 'data', 'none'] },
          { at: 'scope', label: 'Scope', kind: 'condition', hint: 'os.version < 7' },
        ])}
        <Methods
          chosen={textsAt(doc, ['methods']).filter((m) => m !== '')}
          offers={product?.methods.filter((m) => m.way === 'upgrade') ?? []}
          onSet={set}
          onToNext={toNext}
        />
        {list({
          title: 'Machines with a different target',
          at: 'target.but',
          one: 'exception',
          fresh: { groups: [], release: '' },
          fields: [...whom, { at: 'release', label: 'To release', kind: 'text' }, { at: 'build', label: 'Earliest build', kind: 'text' }],
        })}
      </section>
      <section className="card">
        {list({
          title: 'Waves, in order',
          at: 'waves',
          one: 'wave',
          inOrder: true,
          fresh: { name: `Wave ${lengthAt(doc, ['waves']) + 1}` },
          fields: [
            { at: 'name', label: 'Name', kind: 'text' },
            { at: 'not-before', label: 'Begins not before (UTC)', kind: 'text', hint: '2027-02-08 18:00' },
            {
              at: 'members',
              label: 'Members (empty: all remaining machines)',
              kind: 'condition',
              hint: 'group = "office"',
            },
            { at: 'count', label: 'Maximum number', kind: 'whole' },
            { at: 'sample', label: 'Sample', kind: 'text', hint: '10 %' },
            { at: 'machines', label: 'Only these machines', kind: 'texts' },
            { at: 'cover.keys', label: 'Cover every value of', kind: 'texts', hint: 'hardware.model' },
            { at: 'cover.prefer', label: 'Prefer', kind: 'condition', hint: 'tag = "volunteer"' },
            { at: 'approval', label: 'Needs its own approval', kind: 'flag' },
          ],
        })}
      </section>
      <section className="card">
        {list({
          title: 'Maintenance windows',
          at: 'windows',
          one: 'window',
          fresh: { zone, weekly: ['Mon-Fri 20:00-05:00'] },
          fields: [...whom, ...when],
        })}
        {list({
          title: 'Freezes',
          at: 'freezes',
          one: 'freeze',
          fresh: { zone, days: [], why: '' },
          fields: [...whom, ...when, { at: 'why', label: 'Why', kind: 'text' }],
        })}
      </section>
      <section className="card">
        <h2>How many at once</h2>
        {section([
          { at: 'limits.all', label: 'In the whole plan', kind: 'whole' },
          { at: 'limits.site', label: 'At one site', kind: 'whole' },
        ])}
        {list({
          title: 'Site uplinks',
          at: 'uplinks',
          one: 'uplink',
          fresh: { sites: [], rate: '100 Mbit/s', share: '50 %' },
          fields: [
            { at: 'sites', label: 'Sites', kind: 'texts', offers: sites },
            { at: 'rate', label: 'Rate', kind: 'text', hint: '100 Mbit/s' },
            { at: 'share', label: 'Share for staging', kind: 'text', hint: '50 %' },
            ...when,
          ],
        })}
        {list({
          title: 'Crews',
          at: 'crews',
          one: 'crew',
          fresh: { name: 'crew', hands: 1, zone, weekly: ['Mon-Fri 08:00-18:00'] },
          fields: [
            { at: 'name', label: 'Name', kind: 'text' },
            {
              at: 'kind',
              label: 'Kind (as methods name it)',
              kind: 'text',
              offers: [...new Set(product?.methods.map((m) => m.crew).filter((c) => c !== null))],
            },
            { at: 'hands', label: 'At a time', kind: 'whole' },
            { at: 'per-day', label: 'A day', kind: 'whole' },
            { at: 'sites', label: 'Sites', kind: 'texts', offers: sites },
            ...when,
          ],
        })}
      </section>
      <section className="card">
        <h2>Advance rule and deadline</h2>
        {section([
          { at: 'advance.verified', label: 'Start next wave when verified ≥', kind: 'text', hint: '95 %' },
          { at: 'advance.failures', label: 'and failures ≤', kind: 'whole' },
          { at: 'advance.soak', label: 'after a soak time of', kind: 'text', hint: '3 d' },
          { at: 'deadline', label: 'Deadline', kind: 'day' },
          { at: 'patches', label: 'Newest patches', kind: 'choice', hint: 'as each method does', offers: ['during', 'after'] },
          { at: 'stage-ahead', label: 'Stage before the slot', kind: 'text', hint: '24 h' },
          { at: 'lead', label: 'Earliest slot after the wave begins', kind: 'text', hint: 'what staging takes' },
          { at: 'catch-up', label: 'Automatic reschedules of missed slots', kind: 'whole', hint: 'all' },
        ])}
      </section>
      <section className="card">
        <h2>Approval and self-service</h2>
        {section([
          { at: 'approval', label: 'Requires approval by someone else', kind: 'flag' },
          ...(isSaid(doc, ['approval'])
            ? ([
                { at: 'approval.by', label: 'By', kind: 'texts', hint: 'any approver' },
                { at: 'approval.calendars', label: 'A reloaded calendar needs another approval', kind: 'flag' },
              ] as Field[])
            : []),
          { at: 'owners.within', label: 'Owners may reschedule by up to', kind: 'text', hint: '10 d' },
          { at: 'owners.notice', label: 'Notice before the slot', kind: 'text', hint: '24 h' },
          { at: 'change-record', label: 'Change record', kind: 'text', hint: 'NF-2041' },
        ])}
      </section>
    </div>
  );
}

/** The values of a key in the fleet. */
function useValues(key: string): string[] {
  const values = useQuery({
    queryKey: ['completion', `${key} = "`],
    staleTime: 60_000,
    queryFn: () => take(api.GET('/api/v1/conditions/completion', { params: { query: { text: `${key} = "` } } })),
  });
  return (values.data?.offers ?? []).map((o) => o.text.replaceAll('"', ''));
}

interface Edits {
  doc: Document;
  onSet: (path: Path, value: Value | undefined) => void;
}

interface Moves {
  /** Swaps an entry of a list with the next one. */
  onToNext: (path: Path, at: number) => void;
}

/** The methods in their order of preference: a machine gets the first that suits it. */
function Methods({
  chosen,
  offers,
  onSet,
  onToNext,
}: {
  chosen: string[];
  offers: Schemas['MethodView'][];
  onSet: Edits['onSet'];
} & Moves) {
  const at: Path = ['methods'];
  return (
    <div className="entries">
      <h2>Methods in order of preference</h2>
      {chosen.map((name, i) => (
        <div key={name} className="entry line">
          <span>
            {i + 1}. <code>{name}</code> <span className="quiet">{offers.find((m) => m.name === name)?.title}</span>
          </span>
          <Handles
            one={name}
            at={i}
            count={chosen.length}
            onToNext={(from) => onToNext(at, from)}
            onRemove={() => onSet([...at, i], undefined)}
          />
        </div>
      ))}
      <Select
        label="Add a method"
        placeholder={chosen.length === 0 ? 'Each machine gets the first suitable one' : undefined}
        data={offers.filter((m) => !chosen.includes(m.name)).map((m) => ({ value: m.name, label: `${m.name}: ${m.title}` }))}
        value={null}
        onChange={(name) => name && onSet([...at, chosen.length], name)}
      />
    </div>
  );
}

/** The actions for a whole entry of a list. */
function Handles({
  one,
  at,
  count,
  onToNext,
  onRemove,
}: {
  one: string;
  at: number;
  count: number;
  onToNext?: (from: number) => void;
  onRemove: () => void;
}) {
  return (
    <span className="handles">
      {onToNext && count > 1 && (
        <>
          <button type="button" className="plain link" aria-label={`Move ${one} up`} disabled={at === 0} onClick={() => onToNext(at - 1)}>
            Up
          </button>
          <button
            type="button"
            className="plain link"
            aria-label={`Move ${one} down`}
            disabled={at === count - 1}
            onClick={() => onToNext(at)}
          >
            Down
          </button>
        </>
      )}
      <button type="button" className="plain link" aria-label={`Remove ${one}`} onClick={onRemove}>
        Remove
      </button>
    </span>
  );
}

/** The entries of a list, each as a summary that opens for editing. */
function Entries({ of, doc, onSet, onToNext }: Edits & Moves & { of: List }) {
  const at = of.at.split('.');
  const count = lengthAt(doc, at);
  const [open, setOpen] = useState<number>();
  return (
    <div className="entries">
      <h2>
        <span>{of.title}</span>
        <button
          type="button"
          className="plain link"
          onClick={() => {
            onSet([...at, count], of.fresh);
            setOpen(count);
          }}
        >
          Add {/^[aeiou]/.test(of.one) ? 'an' : 'a'} {of.one}
        </button>
      </h2>
      {Array.from({ length: count }, (_, i) => i).map((i) => (
        <div key={i} className="entry">
          <div className="line">
            <button type="button" className="plain link" aria-expanded={open === i} onClick={() => setOpen(open === i ? undefined : i)}>
              {told(doc, of, [...at, i])}
            </button>
            <Handles
              one={`${of.one} ${i + 1}`}
              at={i}
              count={count}
              onToNext={
                of.inOrder
                  ? (from) => {
                      onToNext(at, from);
                      // An open entry stays open when it moves.
                      setOpen(open === from ? from + 1 : open === from + 1 ? from : open);
                    }
                  : undefined
              }
              onRemove={() => {
                onSet([...at, i], undefined);
                setOpen(undefined);
              }}
            />
          </div>
          {open === i && (
            <div className="fields">
              {of.fields.map((f) => (
                <Entry key={f.at} field={f} doc={doc} path={[...at, i, ...f.at.split('.')]} onSet={onSet} />
              ))}
            </div>
          )}
        </div>
      ))}
    </div>
  );
}

/** A one-line summary of an entry, in the order of its fields. */
function told(doc: Document, of: List, path: Path): string {
  const said = of.fields.map((f) => textsAt(doc, [...path, ...f.at.split('.')]).join(', ')).filter((t) => t !== '');
  return said.join(' · ') || `${of.one}, empty`;
}

function Entry({ field, doc, path, onSet }: Edits & { field: Field; path: Path }) {
  const value = textAt(doc, path);
  const set = (next: string) => onSet(path, next === '' ? undefined : next);
  switch (field.kind) {
    case 'condition':
      return (
        <div className="wide">
          <span className="field-label">{field.label}</span>
          <ConditionField label={field.label} value={value} placeholder={field.hint ?? ''} onSubmit={set} submitsOnLeave />
        </div>
      );
    case 'texts': {
      const values = textsAt(doc, path).filter((t) => t !== '');
      const change = (next: string[]) => onSet(path, next.length === 0 ? undefined : next);
      return (
        <TagsInput
          label={field.label}
          placeholder={values.length === 0 ? field.hint : undefined}
          value={values}
          onChange={change}
          className={values.length > 1 ? 'wide' : undefined}
          data={field.offers}
          splitChars={[]}
        />
      );
    }
    case 'choice':
      return (
        <Select
          label={field.label}
          data={[...new Set([...(field.offers ?? []), ...(value ? [value] : [])])]}
          value={value || null}
          placeholder={field.hint}
          onChange={(next) => set(next ?? '')}
        />
      );
    case 'flag':
      return (
        <Checkbox
          className="flag"
          label={field.label}
          checked={isSaid(doc, path)}
          onChange={(e) => set(e.currentTarget.checked ? 'yes' : '')}
        />
      );
    case 'whole':
      return (
        <Settled
          label={field.label}
          placeholder={field.hint}
          inputMode="numeric"
          value={value}
          onSettle={(next) => onSet(path, next === '' ? undefined : /^\d+$/.test(next) ? Number(next) : next)}
        />
      );
    case 'day':
      return <Settled label={field.label} type="date" value={value} onSettle={set} />;
    default:
      return field.offers ? (
        <Autocomplete label={field.label} data={field.offers} placeholder={field.hint} value={value} onChange={set} />
      ) : (
        <Settled label={field.label} placeholder={field.hint} value={value} onSettle={set} />
      );
  }
}

/** A field that commits its text on blur or Enter. */
function Settled({ value, onSettle, ...rest }: { value: string; onSettle: (text: string) => void } & ComponentProps<typeof TextInput>) {
  const [text, setText] = useState(value);
  useEffect(() => setText(value), [value]);
  const settle = () => text.trim() !== value && onSettle(text.trim());
  return (
    <TextInput
      {...rest}
      value={text}
      onChange={(e) => setText(e.currentTarget.value)}
      onBlur={settle}
      onKeyDown={(e) => e.key === 'Enter' && settle()}
    />
  );
}
