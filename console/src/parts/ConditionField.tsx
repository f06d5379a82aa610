import { useQuery } from '@tanstack/react-query';
import { type FormEvent, type KeyboardEvent, useEffect, useId, useRef, useState } from 'react';
import { api, type Schemas, take } from '../api/client';

const MOST = 14;
const ASKS = ['=', '!=', '<', '<=', '>', '>=', 'in (', 'not in (', 'between', 'like', 'has (', 'is known', 'is absent', 'older than'];
const JOINS = ['and', 'or', 'and not'];

interface Offer {
  text: string;
  hint: string;
}

interface Props {
  value: string;
  label: string;
  placeholder: string;
  className?: string;
  onSubmit: (condition: string) => void;
}

/** A field for a condition that offers keys, comparisons and the values that the fleet has. */
export function ConditionField({ value, label, placeholder, className, onSubmit }: Props) {
  const [text, setText] = useState(value);
  const [open, setOpen] = useState(false);
  const [at, setAt] = useState(-1);
  const [caret, setCaret] = useState(0);
  const field = useRef<HTMLInputElement>(null);
  const list = useId();
  useEffect(() => setText(value), [value]);
  const keys = useQuery({ queryKey: ['fixed', 'keys'], queryFn: () => take(api.GET('/api/v1/keys')), enabled: open });
  const place = placeOf(text.slice(0, caret), keys.data ?? []);
  const values = useQuery({
    queryKey: ['values', place.valuesOf],
    queryFn: () => take(api.GET('/api/v1/keys/{key}/values', { params: { path: { key: place.valuesOf as string } } })),
    enabled: open && place.valuesOf !== undefined,
  });
  const offers = open ? offersFor(place, keys.data ?? [], values.data ?? []) : [];
  const accept = (offer: Offer) => {
    const before = text.slice(0, caret - place.typed.length) + offer.text;
    setText(`${before} ${text.slice(caret).trimStart()}`);
    setCaret(before.length + 1);
    setAt(-1);
    requestAnimationFrame(() => field.current?.setSelectionRange(before.length + 1, before.length + 1));
  };
  const submit = (e: FormEvent) => {
    e.preventDefault();
    setOpen(false);
    onSubmit(text.trim());
  };
  const onKey = (e: KeyboardEvent) => {
    if (e.key === 'Escape') setOpen(false);
    if (offers.length === 0) return;
    if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
      e.preventDefault();
      setAt((n) => (n + (e.key === 'ArrowDown' ? 1 : -1) + offers.length) % offers.length);
    }
    const chosen = offers[at];
    if (e.key === 'Tab' && !e.shiftKey && (chosen ?? place.typed !== '')) {
      e.preventDefault();
      accept(chosen ?? (offers[0] as Offer));
    }
    if (e.key === 'Enter' && chosen) {
      e.preventDefault();
      accept(chosen);
    }
  };
  return (
    <form onSubmit={submit} className={`condition ${className ?? ''}`} role="search">
      <input
        ref={field}
        className="filter"
        value={text}
        role="combobox"
        aria-expanded={offers.length > 0}
        aria-controls={list}
        aria-autocomplete="list"
        aria-activedescendant={at >= 0 ? `${list}-${at}` : undefined}
        aria-label={label}
        placeholder={placeholder}
        spellCheck={false}
        autoComplete="off"
        onChange={(e) => {
          setText(e.target.value);
          setCaret(e.target.selectionStart ?? e.target.value.length);
          setOpen(true);
          setAt(-1);
        }}
        onSelect={(e) => setCaret(e.currentTarget.selectionStart ?? 0)}
        onFocus={() => setOpen(true)}
        onBlur={() => setOpen(false)}
        onKeyDown={onKey}
      />
      {offers.length > 0 && (
        <div className="offers" id={list} role="listbox" aria-label="What fits here">
          {offers.map((offer, i) => (
            <div
              key={offer.text}
              id={`${list}-${i}`}
              role="option"
              aria-selected={i === at}
              tabIndex={-1}
              className={i === at ? 'chosen' : ''}
              onMouseDown={(e) => {
                e.preventDefault();
                accept(offer);
              }}
            >
              <code>{offer.text}</code> <span className="quiet">{offer.hint}</span>
            </div>
          ))}
        </div>
      )}
    </form>
  );
}

interface Place {
  typed: string;
  expects: 'key' | 'column' | 'comparison' | 'value' | 'join';
  table?: Schemas['KeyView'];
  valuesOf?: string;
}

/** What may come at the end of a text: a key, a comparison, a value, or a word that joins. */
function placeOf(text: string, keys: Schemas['KeyView'][]): Place {
  const tokens = text.match(/"[^"]*"?|[()=,]|[<>!]=?|[^\s()=<>!,"]+/g) ?? [];
  const unfinished = text !== '' && !/\s$/.test(text);
  const typed = unfinished ? (tokens.at(-1) ?? '') : '';
  const before = unfinished ? tokens.slice(0, -1) : tokens;
  const last = before.at(-1)?.toLowerCase() ?? '';
  const has = before.lastIndexOf('has');
  const inTable = has > 0 && before.slice(has).filter((t) => t === '(').length > before.slice(has).filter((t) => t === ')').length;
  const table = inTable ? keys.find((k) => k.key === before[has - 1]) : undefined;
  if (last === '' || ['and', 'or', 'not'].includes(last) || (last === '(' && !['in'].includes(before.at(-2)?.toLowerCase() ?? '')))
    return { typed, expects: table ? 'column' : 'key', table };
  const key = before.findLast((t) => keys.some((k) => k.key === t));
  if (key === before.at(-1) && !table) return { typed, expects: 'comparison' };
  if (['=', '!=', '<', '<=', '>', '>=', 'like', 'between', ',', '('].includes(last))
    return { typed, expects: 'value', valuesOf: table ? undefined : key };
  return { typed, expects: 'join' };
}

function offersFor(place: Place, keys: Schemas['KeyView'][], values: Schemas['ValueView'][]): Offer[] {
  const fits = (text: string) => text.toLowerCase().includes(place.typed.replaceAll('"', '').toLowerCase());
  const all: Offer[] =
    place.expects === 'key'
      ? keys.map((k) => ({ text: k.key, hint: k.meaning }))
      : place.expects === 'column'
        ? (place.table?.columns ?? []).map((c) => ({ text: c.column, hint: c.meaning }))
        : place.expects === 'comparison'
          ? ASKS.map((text) => ({ text, hint: '' }))
          : place.expects === 'value'
            ? values.map((v) => ({ text: /^[\w.:/+~-]+$/.test(v.value) ? v.value : `"${v.value}"`, hint: `${v.machines}` }))
            : JOINS.map((text) => ({ text, hint: '' }));
  const starting = all.filter((o) => o.text.replaceAll('"', '').toLowerCase().startsWith(place.typed.replaceAll('"', '').toLowerCase()));
  return [...new Set([...starting, ...all.filter((o) => fits(o.text))])].filter((o) => o.text !== place.typed).slice(0, MOST);
}
