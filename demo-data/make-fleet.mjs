// Makes the demo's fleet: what the inventory says (fleet.csv) and what is true of the stand-ins (stand-ins.csv).
// Run it with `node demo-data/make-fleet.mjs`; the same seed makes the same files, which are committed.
import { writeFileSync } from 'node:fs';

const folder = new URL('./northmere/', import.meta.url);
let seed = 20270111;
const draw = () => {
  seed = (seed * 1664525 + 1013904223) % 4294967296;
  return seed / 4294967296;
};
const chance = (share) => draw() < share;
const pick = (list) => list[Math.floor(draw() * list.length)];

const terminals = [
  ['Westhaven', 'w', 38], ['Eastness', 'e', 34], ['Northmere', 'n', 32], ['Corran', 'c', 26], ['Skarvoe', 's', 22], ['Linsay', 'l', 20], ['Holm Pier', 'h', 16],
];
const ferries = [['MV Kittiwake', 'kit', 14], ['MV Fulmar', 'ful', 14], ['MV Gannet', 'gan', 12], ['MV Puffin', 'puf', 12]];
const imported = Date.UTC(2027, 0, 11, 5, 0);
const iso = (time) => new Date(time).toISOString().replace('.000Z', 'Z');
const hours = 3600e3;

const inventory = [];
const truths = [];
let number = 0;

function machine(site, name, group, owner, edition, rate, away) {
  number++;
  const model = group === 'bridge' ? 'Sound 2' : pick(['Tarn 3', 'Tarn 4', 'Tarn 4', 'Beck 5', 'Beck 5', 'Beck 6']);
  const old = model === 'Tarn 3';
  const build = chance(0.7) ? '6.4.9' : '6.4.7';
  const seen = imported - Math.floor(draw() * 30) * hours;
  const backedUp = chance(0.94);
  const truth = {
    'os.product': 'Brae Desktop', 'os.edition': edition, 'os.version': '6', 'os.build': build,
    'hardware.model': model, 'hardware.memory': old ? pick(['8 GiB', '8 GiB', '4 GiB']) : pick(['8 GiB', '16 GiB', '16 GiB']),
    'hardware.processor': old && chance(0.16) ? 'Ness 2' : old ? 'Ness 4' : pick(['Ness 5', 'Ness 6']),
    'disk.system.free': `${chance(0.06) ? 11 + Math.floor(draw() * 18) : 38 + Math.floor(draw() * 140)} GiB`,
    'network.rate': rate, 'power.mains': chance(0.97) ? 'yes' : 'no',
    'backup.last': iso(imported - Math.floor((backedUp ? 4 + draw() * 40 : 200 + draw() * 400)) * hours),
    'boot.id': `${number}`, 'firmware.tpm.version': '2.0', 'firmware.tpm.state': chance(0.05) ? 'off' : 'on',
    'patches.pending': chance(0.07) ? `${1 + Math.floor(draw() * 14)}` : '0', 'licence.active': chance(0.988) ? 'yes' : 'no',
    'offer.release': chance(0.28) ? '7' : '-', 'driver.printer': group === 'ticket-desk' ? pick(['4.0', '4.2', '4.2', '4.1']) : chance(0.1) ? '4.1' : '4.2',
    'disk.encryption': chance(0.9) ? 'on' : 'off', 'image.staged': 'no', 'services.failed': '0', 'device.faults': '0',
  };
  const known = { ...truth };
  delete known['boot.id'];
  delete known['image.staged'];
  if (chance(0.03)) known['firmware.tpm.state'] = '?';
  if (chance(0.03)) known['disk.system.free'] = `${20 + Math.floor(draw() * 60)} GiB`;
  const silent = chance(0.025);
  const tags = chance(0.09) ? 'volunteer' : '';
  inventory.push({
    name, serial: `NF${(41000 + number * 37).toString()}`, site, group, owner, tags, link: 'stand-in', seen: iso(silent ? imported - 9 * 24 * hours : seen), ...known,
  });
  truths.push({ name, ...truth, 'truth.backup': backedUp ? 'nightly' : 'none', 'truth.slowness': (0.75 + draw() * (old ? 1.4 : 0.6)).toFixed(2), 'truth.away': away.toFixed(2) });
}

for (const [site, letter, count] of terminals) {
  const rate = { Westhaven: '200 Mbit/s', Corran: '200 Mbit/s', Skarvoe: '40 Mbit/s', 'Holm Pier': '20 Mbit/s' }[site] ?? '100 Mbit/s';
  for (let i = 1; i <= count; i++) {
    const desk = i <= count * 0.45;
    const id = String(i).padStart(3, '0');
    if (desk) machine(site, `desk-${letter}-${id}`, 'ticket-desk', 'terminal-it', chance(0.96) ? 'Counter' : 'Kiosk', rate, 0.01);
    else machine(site, `office-${letter}-${id}`, 'office', 'terminal-it', 'Workplace', rate, chance(0.15) ? 0.06 : 0.01);
  }
}
for (const [site, short, count] of ferries) {
  for (let i = 1; i <= count; i++) {
    const id = String(i).padStart(2, '0');
    if (i <= 3) machine(site, `bridge-${short}-${id}`, 'bridge', 'deck-it', 'Bridge', '12 Mbit/s', 0.02);
    else machine(site, `deck-${short}-${id}`, 'deck', 'deck-it', 'Workplace', '12 Mbit/s', 0.03);
  }
}

// The pilot stands for the rest: two machines of every terminal's desks and offices, one deck machine a ferry.
const perKind = new Map();
for (const row of inventory) {
  const kind = `${row.site}/${row.group}`;
  const most = row.group === 'bridge' ? 0 : 1;
  if (row['hardware.processor'] === 'Ness 2' || (perKind.get(kind) ?? 0) >= most) continue;
  perKind.set(kind, (perKind.get(kind) ?? 0) + 1);
  row.tags = `${row.tags} pilot`.trim();
}

const cell = (text) => (/[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);
function write(file, rows, empty) {
  const columns = [...new Set(rows.flatMap((row) => Object.keys(row)))];
  const lines = [columns, ...rows.map((row) => columns.map((column) => (empty && row[column] === '-' ? '' : row[column])))];
  writeFileSync(new URL(file, folder), `${lines.map((line) => line.map(cell).join(',')).join('\n')}\n`);
}
write('fleet.csv', inventory, true);
write('stand-ins.csv', truths, false);
console.log(`${inventory.length} machines`);
