/** Words of the API that the console shows differently. */
const known: Record<string, string> = {
  unmet: 'not met',
  preserves: 'does not preserve everything',
};

/** A word of the API as the console shows it. */
export const word = (text: string | null | undefined) => known[text ?? ''] ?? (text ?? '').replaceAll('-', ' ');

/** A number of seconds in the unit that fits. */
export function span(seconds: number | null | undefined): string {
  if (seconds === null || seconds === undefined) return '';
  if (seconds < 59.5) return `${Math.round(seconds)} s`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min`;
  if (seconds < 172800) return `${Math.round(seconds / 3600)} h`;
  return `${Math.round(seconds / 86400)} d`;
}

let now = () => Date.now();

/** Sets the service's clock, which differs from the browser's in a demo; it decides which year is the current one. */
export const setClock = (clock: () => number) => {
  now = clock;
};

/** Whether a moment is to come, by the service's clock. */
export const isToCome = (moment: string) => Date.parse(moment) > now();

const isThisYear = (moment: Date) => moment.getFullYear() === new Date(now()).getFullYear();

const day = new Intl.DateTimeFormat('en-GB', { weekday: 'short', day: 'numeric', month: 'short' });
const dayOfYear = new Intl.DateTimeFormat('en-GB', { weekday: 'short', day: 'numeric', month: 'short', year: 'numeric' });
const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' });
const longDay = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'long' });
const longDayOfYear = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'long', year: 'numeric' });

/** A moment in the viewer's time zone, with its year unless it is the current one. */
export function time(at: string | null | undefined): string {
  if (!at) return '';
  const moment = new Date(at);
  return `${(isThisYear(moment) ? day : dayOfYear).format(moment)} ${clock.format(moment)}`;
}

const zoned = new Intl.DateTimeFormat('en-GB', { timeZoneName: 'short' });

/** The viewer's time zone, in which times are shown. */
export const zone = () => zoned.formatToParts(new Date(now())).find((part) => part.type === 'timeZoneName')?.value ?? '';

const utc = /(\d{4}-\d\d-\d\d) (\d\d:\d\d)(?::\d\d)?(?: UTC)?/g;

/** A sentence of the service, whose times are in UTC, with these in the viewer's zone, which is named. */
export const inViewersZone = (text: string) =>
  text.replace(utc, (said, on: string, at: string) =>
    new Date(now()).getTimezoneOffset() === 0 ? said : `${time(`${on}T${at}:00Z`)} ${zone()}`,
  );

export const hour = (at: string) => clock.format(new Date(at));

/** A day, with its year unless it is the current one. */
export function date(at: string | null | undefined): string {
  if (!at) return '';
  const moment = new Date(at);
  return (isThisYear(moment) ? longDay : longDayOfYear).format(moment);
}

const whole = new Intl.NumberFormat('en-GB');

/** A number with thousands separators. */
export const amount = (count: number) => whole.format(count);

export const many = (count: number, one: string, more = `${one}s`) => `${amount(count)} ${count === 1 ? one : more}`;

const tenth = new Intl.NumberFormat('en-GB', { maximumSignificantDigits: 3 });

/** A number of bytes in the unit that fits. */
export function bytes(count: number): string {
  const power = Math.min(4, Math.max(0, Math.floor(Math.log2(Math.max(1, count)) / 10)));
  return `${tenth.format(count / 1024 ** power)} ${['B', 'KiB', 'MiB', 'GiB', 'TiB'][power]}`;
}

/** A share, 0 to 1, in per cent; it never rounds up to 100 % or down to 0 %. */
export const percent = (share: number) =>
  share > 0 && share < 0.01 ? 'under 1 %' : share > 0.99 && share < 1 ? 'over 99 %' : `${Math.round(share * 100)} %`;

/** A moment in the format of a datetime-local field: local time. */
export const clockMoment = (at: string) => {
  const moment = new Date(at);
  return new Date(moment.getTime() - moment.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
};
