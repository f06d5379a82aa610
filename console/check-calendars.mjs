// Reads calendars with an independent parser: prints the events of a file, or the first occurrences of rules, as JSON.
import { readFileSync } from 'node:fs';
import ICAL from 'ical.js';

const [what, file] = process.argv.slice(2);
const parse = (text) => new ICAL.Component(ICAL.parse(text));
const utc = (time) => time.toJSDate().toISOString();
if (what === 'events') {
  const events = parse(readFileSync(file, 'utf8'))
    .getAllSubcomponents('vevent')
    .map((e) => new ICAL.Event(e));
  console.log(
    JSON.stringify(
      events.map((e) => ({ uid: e.uid, start: utc(e.startDate), end: utc(e.endDate), summary: e.summary, where: e.location ?? '' })),
    ),
  );
} else if (what === 'rules') {
  // One rule a line, with what it begins with; times are without a zone, so that no file of zones is needed.
  const lines = readFileSync(file, 'utf8').split('\n').filter(Boolean);
  const found = lines.map((line) => {
    const [start, rule] = line.split(' ');
    const times = ICAL.Recur.fromString(rule).iterator(ICAL.Time.fromString(start, undefined));
    const first = [];
    for (let next = times.next(); next && first.length < 40; next = times.next()) first.push(next.toString());
    return first;
  });
  console.log(JSON.stringify(found));
} else {
  console.error('check-calendars: expected events FILE or rules FILE');
  process.exit(2);
}
