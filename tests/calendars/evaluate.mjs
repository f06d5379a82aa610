// Says when the events of calendars are, by the library ical.js: node evaluate.mjs FOLDER ZONE FROM TO
// prints, by file, the begins and ends as numbers of seconds since 1970.
import { readdirSync, readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { join } from 'node:path'

const [folder, here, from, to] = process.argv.slice(2)
const ICAL = createRequire(join(process.cwd(), 'package.json'))('ical.js').default ?? createRequire(join(process.cwd(), 'package.json'))('ical.js')

const formats = new Map()
const formatOf = (zone) => {
  if (!formats.has(zone)) formats.set(zone, new Intl.DateTimeFormat('en', { timeZone: zone, hourCycle: 'h23', year: 'numeric', month: 'numeric', day: 'numeric', hour: 'numeric', minute: 'numeric', second: 'numeric' }))
  return formats.get(zone)
}

/** The offset of a zone at a moment, in minutes, by the data that node has. */
const offsetAt = (zone, seconds) => {
  const parts = Object.fromEntries(formatOf(zone).formatToParts(new Date(seconds * 1000)).map((p) => [p.type, Number(p.value)]))
  return Math.round((Date.UTC(parts.year, parts.month - 1, parts.day, parts.hour, parts.minute, parts.second) / 1000 - seconds) / 60)
}
const shown = (minutes) => `${minutes < 0 ? '-' : '+'}${String(Math.floor(Math.abs(minutes) / 60)).padStart(2, '0')}${String(Math.abs(minutes) % 60).padStart(2, '0')}`

/** A zone of the IANA database as the rules that ical.js wants: a change of its offset each. */
const zoneOf = (id) => {
  const [begin, end] = [Date.UTC(2018, 0, 1) / 1000, Date.UTC(2029, 0, 1) / 1000]
  let text = `BEGIN:VTIMEZONE\r\nTZID:${id}\r\nBEGIN:STANDARD\r\nDTSTART:19700101T000000\r\nTZOFFSETFROM:${shown(offsetAt(id, begin))}\r\nTZOFFSETTO:${shown(offsetAt(id, begin))}\r\nEND:STANDARD\r\n`
  for (let day = begin; day < end; day += 86400) {
    const [before, after] = [offsetAt(id, day), offsetAt(id, day + 86400)]
    if (before === after) continue
    let hour = day
    while (offsetAt(id, hour) === before) hour += 3600
    const local = new Date((hour + before * 60) * 1000).toISOString().replaceAll(/[-:]/g, '').slice(0, 15)
    const kind = after > before ? 'DAYLIGHT' : 'STANDARD'
    text += `BEGIN:${kind}\r\nDTSTART:${local}\r\nTZOFFSETFROM:${shown(before)}\r\nTZOFFSETTO:${shown(after)}\r\nEND:${kind}\r\n`
  }
  return new ICAL.Timezone(new ICAL.Component(ICAL.parse(`BEGIN:VCALENDAR\r\n${text}END:VTIMEZONE\r\nEND:VCALENDAR`)).getFirstSubcomponent('vtimezone'))
}

const home = zoneOf(here)
const seconds = (time) => {
  const own = time.clone()
  if (own.isDate || own.zone === ICAL.Timezone.localTimezone) own.zone = home
  if (own.isDate) own.isDate = false
  return own.toUnixTime()
}

const result = {}
for (const file of readdirSync(folder).filter((f) => f.endsWith('.ics'))) {
  const found = []
  try {
    const calendar = new ICAL.Component(ICAL.parse(readFileSync(join(folder, file), 'utf8')))
    ICAL.TimezoneService.reset()
    for (const zone of calendar.getAllSubcomponents('vtimezone')) ICAL.TimezoneService.register(zone)
    for (const id of ['Europe/London', 'America/New_York']) if (!ICAL.TimezoneService.has(id)) ICAL.TimezoneService.register(zoneOf(id), id)
    const events = calendar.getAllSubcomponents('vevent')
    const isException = (e) => e.hasProperty('recurrence-id')
    for (const component of events.filter((e) => !isException(e))) {
      const event = new ICAL.Event(component, { strictExceptions: true })
      const uid = component.getFirstPropertyValue('uid')
      for (const other of events.filter((e) => isException(e) && e.getFirstPropertyValue('uid') === uid)) event.relateException(other)
      const add = (item, start, end) => {
        if (String(item.component.getFirstPropertyValue('status')).toUpperCase() !== 'CANCELLED') found.push([seconds(start), seconds(end)])
      }
      if (!event.isRecurring()) {
        add(event, event.startDate, event.endDate)
        continue
      }
      const each = event.iterator()
      for (let next = each.next(), n = 0; next && seconds(next) < Number(to) + 40 * 86400 && n < 5000; next = each.next(), n++) {
        const one = event.getOccurrenceDetails(next)
        add(one.item, one.startDate, one.endDate)
      }
    }
    result[file] = found.filter(([a, b]) => a < Number(to) && b > Number(from) && a < b).sort((x, y) => x[0] - y[0] || x[1] - y[1])
  } catch (error) {
    result[file] = String(error.message ?? error)
  }
}
console.log(JSON.stringify(result))
