'use strict';
// What moves on the diagram, from what the lab says of itself.
const drawn = JSON.parse(document.getElementById('drawn').textContent);
const svg = document.querySelector('#diagram svg');
const NS = 'http://www.w3.org/2000/svg';
const byId = id => document.getElementById(id);

function shape(name, attributes, parent) {
  const e = document.createElementNS(NS, name);
  for (const k in attributes) e.setAttribute(k, attributes[k]);
  parent.append(e);
  return e;
}

const layer = shape('g', {id: 'layer'}, svg);
const points = c => c.points.map(p => p.X.toFixed(1) + ',' + p.Y.toFixed(1)).join(' ');

// Each cable has a line for what its machine sends and one for what it receives.
const cables = new Map();
for (const c of drawn.cables) {
  const side = drawn.outside[c.segment] ? ' outside' : '';
  cables.set(c.machine + '\n' + c.segment, {
    up: shape('polyline', {points: points(c), class: 'moves up' + side}, layer),
    down: shape('polyline', {points: points(c), class: 'moves down' + side}, layer),
    points: points(c),
  });
}

// More packets are shown stronger and faster, on a scale that still tells one from ten.
function move(line, packets) {
  line.style.opacity = packets > 0 ? Math.min(1, 0.45 + Math.log10(1 + packets) / 5) : 0;
  if (packets > 0) line.style.animationDuration = Math.max(0.15, 1.2 / (1 + Math.log10(1 + packets))) + 's';
}

function amount(bytes) {
  const units = ['B', 'KiB', 'MiB', 'GiB'];
  let i = 0;
  while (bytes >= 1024 && i < units.length - 1) { bytes /= 1024; i++; }
  return (i && bytes < 10 ? bytes.toFixed(1) : bytes.toFixed(0)) + ' ' + units[i] + '/s';
}

function rates(list) {
  const table = byId('rates');
  table.replaceChildren();
  const most = Math.max(1, ...list.map(s => s.bytes));
  for (const s of list) {
    const row = table.insertRow();
    if (!(s.name in drawn.outside) || drawn.outside[s.name]) row.className = 'outside';
    row.insertCell().textContent = s.name;
    const bar = row.insertCell();
    bar.style.width = '40%';
    const i = document.createElement('i');
    i.style.width = (s.bytes > 0 ? Math.max(2, 100 * Math.log(1 + s.bytes) / Math.log(1 + most)) : 0) + '%';
    bar.append(i);
    for (const text of [s.packets.toFixed(0) + ' packets/s', amount(s.bytes)]) {
      const c = row.insertCell();
      c.className = 'n';
      c.textContent = text;
    }
  }
}

function entry(list, e, most) {
  const li = document.createElement('li');
  li.className = e.kind;
  const t = document.createElement('time');
  t.textContent = new Date(e.time).toLocaleTimeString([], {hour12: false});
  li.append(t, e.text);
  list.prepend(li);
  while (list.children.length > most) list.lastChild.remove();
}

// What a rule stops is one line, with how many so far.
const stops = new Map();
function counted(e) {
  const key = e.machine + '\n' + e.rule;
  const s = stops.get(key) || {packets: 0};
  s.packets += e.packets;
  if (s.line) s.line.remove();
  stops.set(key, s);
  entry(byId('blocked'), {...e, text: e.text.replace(/ stops \d+/, ' stops ' + s.packets)}, 40);
  s.line = byId('blocked').firstChild;
}

// Where packets died: a sign on the gate that stopped them, with the rule.
let place = 0;
function stopped(e) {
  const gate = drawn.gates.find(x => x.name === e.machine);
  if (!gate) return;
  const g = shape('g', {class: 'stopped'}, layer);
  const x = gate.box.X + gate.box.W - 20 - (place++ % 6) * 28, y = gate.box.Y + gate.box.H - 18;
  shape('circle', {cx: x, cy: y, r: 11}, g);
  shape('text', {x: x, y: y + 4}, g).textContent = e.rule ? '✗' + e.rule : '✗';
  setTimeout(() => g.remove(), 3200);
}

const ways = new Map();
function escaped(e) {
  const box = byId('escape');
  box.hidden = false;
  box.textContent = '✗ ' + e.text;
  const key = e.machine + '\n' + e.segment;
  if (ways.has(key)) clearTimeout(ways.get(key).timer);
  else {
    const lines = [];
    const add = c => c && lines.push(shape('polyline', {points: c.points, class: 'way'}, layer));
    add(cables.get(key));
    add(cables.get('\n' + e.segment));
    ways.set(key, {lines: lines});
  }
  const way = ways.get(key);
  way.timer = setTimeout(() => {
    way.lines.forEach(l => l.remove());
    ways.delete(key);
    if (ways.size === 0) box.hidden = true;
  }, 15000);
}

// The claims as they were judged last, with their age; failed ones with since when.
function checks(c) {
  const list = byId('failing');
  list.replaceChildren();
  if (!c) return;
  const clock = t => new Date(t).toLocaleTimeString([], {hour12: false});
  const all = c.holds + c.broken + c.unknown;
  const text = (c.broken ? '✗ ' : c.unknown ? '? ' : '✓ ') + c.holds + ' of ' + all + ' checks ok' +
    (c.broken ? ', ' + c.broken + ' failed' : '') + (c.unknown ? ', ' + c.unknown + ' not decided' : '') +
    ', asked at ' + clock(c.latest);
  const p = byId('checked');
  if (p.textContent !== text) p.textContent = text; // a screen reader hears what is new
  p.className = c.broken ? 'escape' : '';
  for (const x of c.open) {
    if (x.verdict !== 'broken') continue;
    const li = document.createElement('li');
    li.className = 'escape';
    const t = document.createElement('time');
    t.textContent = clock(x.since);
    li.append(t, x.claim + ': ' + x.text);
    list.append(li);
  }
}

function change(c) {
  checks(c.checked);
  byId('state').textContent = c.phase + ', ' + new Date(c.time).toLocaleTimeString([], {hour12: false});
  rates(c.segments);
  const sums = new Map();
  for (const a of c.adapters) {
    const key = a.machine + '\n' + a.segment;
    const s = sums.get(key) || {up: 0, down: 0};
    s.up += a.sent.packets;
    s.down += a.received.packets;
    sums.set(key, s);
  }
  for (const [key, lines] of cables) {
    const s = sums.get(key) || {up: 0, down: 0};
    move(lines.up, s.up);
    move(lines.down, s.down);
  }
  for (const e of c.events) {
    if (e.kind === 'escape') escaped(e);
    if (e.kind === 'blocked') {
      stopped(e);
      counted(e);
    } else {
      entry(byId('events'), e, 200);
    }
  }
}

const source = new EventSource('events');
source.onmessage = m => change(JSON.parse(m.data));
source.onerror = () => { byId('state').textContent = 'the lab does not answer'; };
