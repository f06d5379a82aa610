import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { type FormEvent, type KeyboardEvent, useEffect, useId, useRef, useState } from 'react';
import { api, type Schemas, take } from '../api/client';

interface Props {
  value: string;
  label: string;
  placeholder: string;
  className?: string;
  onSubmit: (condition: string) => void;
  /** Whether leaving the field submits it, as in a form with several fields. */
  submitsOnLeave?: boolean;
}

/** A field for a condition, with completion of keys, comparisons and values. */
export function ConditionField({ value, label, placeholder, className, onSubmit, submitsOnLeave = false }: Props) {
  const [text, setText] = useState(value);
  const [open, setOpen] = useState(false);
  const [at, setAt] = useState(-1);
  const [caret, setCaret] = useState(0);
  const field = useRef<HTMLInputElement>(null);
  const list = useId();
  useEffect(() => setText(value), [value]);
  const before = text.slice(0, caret);
  const completion = useQuery({
    queryKey: ['completion', before],
    queryFn: () => take(api.GET('/api/v1/conditions/completion', { params: { query: { text: before } } })),
    enabled: open,
    placeholderData: keepPreviousData,
  });
  const offers = open ? (completion.data?.offers ?? []) : [];
  const from = Math.min(completion.data?.from ?? caret, caret);
  const accept = (offer: Schemas['OfferedView']) => {
    const upTo = text.slice(0, from) + offer.text;
    setText(`${upTo} ${text.slice(caret).trimStart()}`);
    setCaret(upTo.length + 1);
    setAt(-1);
    requestAnimationFrame(() => field.current?.setSelectionRange(upTo.length + 1, upTo.length + 1));
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
    if (e.key === 'Tab' && !e.shiftKey && (chosen ?? from < caret)) {
      e.preventDefault();
      accept(chosen ?? (offers[0] as Schemas['OfferedView']));
    }
    if (e.key === 'Enter' && chosen) {
      e.preventDefault();
      accept(chosen);
    }
  };
  return (
    <form onSubmit={submit} className={`condition ${className ?? ''}`} role="search" aria-label={label}>
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
        onBlur={() => {
          setOpen(false);
          if (submitsOnLeave && text.trim() !== value) onSubmit(text.trim());
        }}
        onKeyDown={onKey}
      />
      {offers.length > 0 && (
        <div className="offers" id={list} role="listbox" aria-label="Suggestions">
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
