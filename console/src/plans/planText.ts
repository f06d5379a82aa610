import { type Document, isCollection, isMap, isNode, isPair, isScalar, isSeq, parseDocument, type YAMLMap, type YAMLSeq } from 'yaml';

export type Path = readonly (string | number)[];
export type Value = string | number | boolean | readonly Value[] | { readonly [field: string]: Value | undefined };

/** A plan's text, parsed as far as possible. */
export const understood = (text: string): Document => parseDocument(text, { schema: 'failsafe' });

/** The value at a path: a text, a list of texts, or undefined. */
export function textsAt(doc: Document, path: Path): string[] {
  const node = doc.getIn(path, true);
  if (isScalar(node)) return [String(node.value ?? '')];
  return isSeq(node) ? node.items.filter(isScalar).map((i) => String(i.value ?? '')) : [];
}

export const textAt = (doc: Document, path: Path): string => textsAt(doc, path)[0] ?? '';

/** The number of entries of the list at a path. */
export function lengthAt(doc: Document, path: Path): number {
  const node = doc.getIn(path, true);
  return isSeq(node) ? node.items.length : 0;
}

/** Whether the value at a path is yes, or a group. */
export const isSaid = (doc: Document, path: Path): boolean => isMap(doc.getIn(path, true)) || ['yes', 'true'].includes(textAt(doc, path));

/** Whether a field is the only one of its group. */
export function isAlone(doc: Document, path: Path): boolean {
  const group = doc.getIn(path.slice(0, -1), true);
  return isMap(group) && group.items.length === 1;
}

/**
 * The text with the value at a path set, or removed if it is undefined. Everything else, including comments and layout,
 * stays as it is.
 */
export function withValue(text: string, path: Path, value: Value | undefined): string {
  const doc = understood(text);
  const key = path.at(-1) as string | number;
  const above = path.slice(0, -1);
  const parent = above.length === 0 ? doc.contents : doc.getIn(above, true);
  if (!isMap(parent) && !isSeq(parent)) {
    if (value === undefined) return text;
    // The parent does not exist or is no group; create it.
    return above.length === 0
      ? `${text.trimEnd()}\n${key}: ${written(value, false)}\n`
      : withValue(text, above, typeof key === 'number' ? [value] : { [key]: value });
  }
  const inFlow = above.some((_, i) => isFlow(doc.getIn(above.slice(0, i + 1), true)));
  const at = isMap(parent) ? parent.items.findIndex((p) => isScalar(p.key) && p.key.value === key) : (key as number);
  if (at < 0 || at >= parent.items.length)
    return value === undefined ? text : insert(text, parent, `${isMap(parent) ? `${key}: ` : ''}${written(value, inFlow)}`);
  // A list or group goes with its last entry.
  if (value === undefined) return parent.items.length === 1 && above.length > 0 ? withValue(text, above, undefined) : cut(text, parent, at);
  return replace(text, parent, at, written(value, inFlow));
}

/** The text with an entry of a list and the next one swapped, each with the comments above it. */
export function withSwapped(text: string, path: Path, at: number): string {
  const list = understood(text).getIn(path, true);
  if (!isSeq(list) || at < 0 || at + 1 >= list.items.length) return text;
  const [from, to] = entrySpan(text, list, at);
  const [nextFrom, nextTo] = entrySpan(text, list, at + 1);
  return text.slice(0, from) + text.slice(nextFrom, nextTo) + text.slice(to, nextFrom) + text.slice(from, to) + text.slice(nextTo);
}

const isFlow = (node: unknown) => isCollection(node) && node.flow === true;

/** The range of an entry's value; empty, at its position, where there is none. */
function valueSpan(parent: YAMLMap | YAMLSeq, at: number): [number, number] {
  const item = parent.items[at];
  const node = isPair(item) ? item.value : item;
  if (isNode(node) && node.range) return [node.range[0], node.range[1]];
  const key = isPair(item) && isNode(item.key) ? (item.key.range?.[1] ?? 0) : 0;
  return [key + 1, key + 1];
}

function keyStart(parent: YAMLMap | YAMLSeq, at: number): number {
  const item = parent.items[at];
  const node = isPair(item) ? item.key : item;
  return isNode(node) && node.range ? node.range[0] : 0;
}

function replace(text: string, parent: YAMLMap | YAMLSeq, at: number, value: string): string {
  const [from] = valueSpan(parent, at);
  return `${text.slice(0, from)}${text[from - 1] === ':' ? ' ' : ''}${value}${text.slice(endOf(text, parent, at))}`;
}

function insert(text: string, parent: YAMLMap | YAMLSeq, entry: string): string {
  const last = parent.items.length - 1;
  const [begin, close] = parent.range ?? [0, 0, 0];
  if (parent.flow) {
    if (last < 0) return `${text.slice(0, begin + 1)}${isMap(parent) ? ` ${entry} ` : entry}${text.slice(close - 1)}`;
    const end = endOf(text, parent, last);
    return `${text.slice(0, end)}, ${entry}${text.slice(end)}`;
  }
  if (last < 0) return `${text.trimEnd()}\n${entry}\n`;
  const line = lineEnd(text, endOf(text, parent, last));
  const first = lineStart(text, parent, 0);
  const indent = isMap(parent)
    ? ' '.repeat(keyStart(parent, 0) - text.lastIndexOf('\n', keyStart(parent, 0) - 1) - 1)
    : text.slice(first).match(/^ */)?.[0];
  return `${text.slice(0, line)}\n${indent}${isSeq(parent) ? '- ' : ''}${entry}${text.slice(line)}`;
}

function cut(text: string, parent: YAMLMap | YAMLSeq, at: number): string {
  const last = parent.items.length - 1;
  const start = keyStart(parent, at);
  const end = endOf(text, parent, at);
  if (parent.flow) {
    if (at < last) return text.slice(0, start) + text.slice(keyStart(parent, at + 1));
    return text.slice(0, at > 0 ? endOf(text, parent, at - 1) : start) + text.slice(end);
  }
  // The first field of an entry is on the line of the hyphen; the next field takes its place.
  if (isMap(parent) && /-\s*$/.test(text.slice(text.lastIndexOf('\n', start - 1) + 1, start)) && at < last)
    return text.slice(0, start) + text.slice(keyStart(parent, at + 1));
  const [from, to] = entrySpan(text, parent, at);
  return text.slice(0, from) + text.slice(to + 1);
}

/** The range of an entry: between commas, or its whole lines with the comment lines above. */
function entrySpan(text: string, parent: YAMLMap | YAMLSeq, at: number): [number, number] {
  const end = endOf(text, parent, at);
  if (parent.flow) return [keyStart(parent, at), end];
  let from = lineStart(text, parent, at);
  const indent = text.slice(from).match(/^ */)?.[0] ?? '';
  for (;;) {
    const above = text.lastIndexOf('\n', from - 2) + 1;
    if (from === 0 || !text.slice(above, from).startsWith(`${indent}#`)) return [from, lineEnd(text, end)];
    from = above;
  }
}

/** The end of an entry's value, without the line break that the parser counts to a block list. */
const endOf = (text: string, parent: YAMLMap | YAMLSeq, at: number) => {
  const [from, to] = valueSpan(parent, at);
  return from + text.slice(from, to).trimEnd().length;
};

/** The start of an entry's line; for an entry of a list, the line of its hyphen. */
function lineStart(text: string, parent: YAMLMap | YAMLSeq, at: number): number {
  const start = keyStart(parent, at);
  const mark = isSeq(parent) ? text.lastIndexOf('-', start - 1) : start;
  return text.lastIndexOf('\n', mark - 1) + 1;
}

function lineEnd(text: string, from: number): number {
  const end = text.indexOf('\n', from);
  return end < 0 ? text.length : end;
}

/** A value in flow style, on one line. */
function written(value: Value, inFlow: boolean): string {
  if (typeof value === 'string') return scalar(value, inFlow);
  if (typeof value !== 'object') return String(value);
  if (Array.isArray(value)) return `[${value.map((v) => written(v, true)).join(', ')}]`;
  const fields = Object.entries(value).filter((f): f is [string, Value] => f[1] !== undefined);
  return `{ ${fields.map(([field, v]) => `${field}: ${written(v, true)}`).join(', ')} }`;
}

function scalar(text: string, inFlow: boolean): string {
  const plain =
    text !== '' &&
    text === text.trim() &&
    !/^[-?:,[\]{}#&*!|>'"%@`]/.test(text) &&
    !/: | #|:$|\n/.test(text) &&
    !(inFlow && /[,[\]{}]/.test(text));
  // A release such as 7.10 must not become a number.
  return plain && !/^[0-9.]+$/.test(text) ? text : `"${text.replaceAll('\\', '\\\\').replaceAll('"', '\\"').replaceAll('\n', ' ')}"`;
}
