// Makes the demo's fleet: what the inventory says (fleet.csv) and what is true of the simulated machines (simulated.csv).
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
// What has a fault mark after the upgrade, and what is lost in it.
const faults = { 'desk-n-004': '1', 'desk-w-012': '1', 'desk-c-009': '1' };
const loses = { 'desk-w-011': 'label-printer', 'desk-n-010': 'print-queue', 'desk-c-006': 'label-printer' };
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
    'disk.encryption': chance(0.9) ? 'on' : 'off', 'firmware.mode': 'legacy', 'image.staged': 'no', 'services.failed': '0', 'device.faults': faults[name] ?? '0',
  };
  const known = { ...truth };
  delete known['boot.id'];
  delete known['image.staged'];
  if (chance(0.03)) known['firmware.tpm.state'] = '?';
  if (chance(0.03)) known['disk.system.free'] = `${20 + Math.floor(draw() * 60)} GiB`;
  const silent = chance(0.025);
  const tags = chance(0.09) ? 'volunteer' : '';
  inventory.push({
    name, serial: `NF${(41000 + number * 37).toString()}`, site, group, owner, tags, connection: 'simulated', seen: iso(silent ? imported - 9 * 24 * hours : seen), ...known,
  });
  truths.push({ name, ...truth, 'truth.backup': backedUp ? 'nightly' : 'none', 'truth.slowness': (0.75 + draw() * (old ? 1.4 : 0.6)).toFixed(2), 'truth.away': away.toFixed(2), 'truth.signed-in': group === 'ticket-desk' ? '0.3' : '0.1', 'truth.loses': loses[name] ?? '-' });
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
write('simulated.csv', truths, false);

// The servers, gateways with their radios, the vault and the ticketing server.
const others = [];
const other = (name, site, group, readings, truth = {}) => others.push({ name, site, group, owner: 'terminal-it', tags: '', connection: 'simulated', seen: iso(imported - Math.floor(draw() * 20) * hours), readings, truth });
const table = (rows) => JSON.stringify(rows);
const apps = (ledger) => table([{ name: 'Ledger', version: ledger, publisher: 'Quay Works' }, { name: 'Chart Store', version: '3.1', publisher: 'Harbour Soft' }]);
const services = (state) => table([{ name: 'ledger', state: 'running', start: 'auto' }, { name: 'print-queue', state, start: 'auto' }]);
const server = (name, site, version, edition, model, mode, ledger, state, memory = '32 GiB', replaces = '-') =>
  other(name, site, 'servers', {
    'os.product': 'Brae Server', 'os.edition': edition, 'os.version': version, 'os.build': `${version}.0.7`, 'hardware.model': model, 'hardware.memory': memory, 'disk.system.free': '120 GiB',
    'network.rate': '1 Gbit/s', 'backup.last': iso(imported - 20 * hours), 'firmware.mode': mode, 'patches.pending': '0', 'cluster.size': '1', replaces, apps: apps(ledger), services: services(state),
  });
server('srv-files-w', 'Westhaven', '4', 'Standard', 'virtual', 'legacy', '9.4', 'running');
// A clone, which is to take the place of the first one.
server('srv-files-w2', 'Westhaven', '4', 'Standard', 'virtual', 'legacy', '9.4', 'running', '32 GiB', 'srv-files-w');
server('srv-ledger-w', 'Westhaven', '4', 'Standard', 'Rack 2', 'legacy', '8.2', 'running');
server('srv-branch-e', 'Eastness', '4', 'Branch', 'virtual', 'legacy', '9.4', 'running', '8 GiB');
server('srv-dir-n', 'Northmere', '5', 'Datacentre', 'Rack 2', 'native', '9.4', 'failed');
server('srv-print-c', 'Corran', '5', 'Standard', 'virtual', 'legacy', '9.4', 'running');
server('srv-mail-n', 'Northmere', '6', 'Datacentre', 'Rack 2', 'native', '9.4', 'running');
const gateway = (name, site, model, firmware, pair, radios, old) => {
  other(name, site, 'gateways', {
    'os.product': 'Skerry Gateway', 'os.version': '3', 'os.build': '3.2.1', 'hardware.model': model, 'disk.system.free': '6 GiB', 'network.rate': '100 Mbit/s', 'power.mains': 'yes',
    'gateway.firmware': firmware, 'gateway.pair': pair, 'radios.unstaged': `${radios}`, 'radios.off': '0', cluster: pair,
  });
  for (let i = 1; i <= radios; i++)
    other(`${name}-radio-${String(i).padStart(2, '0')}`, site, 'radios', { 'os.product': 'Skerry Radio', 'os.version': i === old ? '1.6' : '2.3', 'hardware.model': i === old ? 'Skua 1' : 'Skua 2', 'hangs-on': name });
};
gateway('gate-w-1', 'Westhaven', 'Skerry 200', '2.1', '-', 12, 7);
gateway('gate-e-1', 'Eastness', 'Skerry 200', '2.4', 'eastness', 6, 0);
gateway('gate-e-2', 'Eastness', 'Skerry 200', '2.4', 'eastness', 6, 0);
gateway('gate-kit-1', 'MV Kittiwake', 'Skerry 80', '1.9', '-', 3, 0);
for (let i = 1; i <= 3; i++)
  other(`vault-n-${i}`, 'Northmere', 'vault', {
    'os.product': 'Corrie Vault', 'os.version': '2', 'os.build': '2.8.4', 'hardware.model': 'Corrie 12', 'hardware.memory': '128 GiB', 'disk.system.free': '400 GiB',
    devices: table([{ name: 'disk 1', kind: 'disk', fault: 'no' }, { name: 'fan 2', kind: 'fan', fault: i === 2 ? 'yes' : 'no' }]), 'vault.nodes.healthy': '3', 'vault.nodes.all': '3', 'vault.rebuild': 'no', cluster: 'vault-n',
  });
const tickets = (name, account, replaces, backup) =>
  other(name, 'Westhaven', 'ticketing', {
    'os.product': 'Debian', 'os.version': '12', 'os.build': '12.8', 'hardware.memory': '32 GiB', 'disk.system.free': '44 GiB', 'network.rate': '1 Gbit/s',
    'backup.last': iso(imported - backup * hours), 'lantern.version': '11.4', 'lantern.runtime': '11', 'lantern.store': '4', 'lantern.account': account, replaces,
  }, { 'truth.backup': 'nightly' });
tickets('tickets-w', 'owner', '-', 6);
tickets('tickets-w2', 'owner', 'tickets-w', 6);
// A file says of every machine in it that a column without a value is absent, so that each kind has a file of its own.
for (const group of new Set(others.map((o) => o.group))) {
  const own = others.filter((o) => o.group === group);
  write(`${group}.csv`, own.map(({ readings, truth, ...rest }) => ({ ...rest, ...readings })), true);
  write(`${group}-simulated.csv`, own.map(({ name, readings, truth }) => ({ name, ...readings, 'boot.id': name, 'truth.backup': 'none', 'truth.slowness': '1', 'truth.away': '0', ...truth })), false);
}
console.log(`${inventory.length} desktops and ${others.length} others`);
