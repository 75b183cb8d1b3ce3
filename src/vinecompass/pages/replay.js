"use strict";
(() => {
const data = JSON.parse(document.getElementById("data").textContent);
const C = data.colours;
const byId = (id) => document.getElementById(id);

// What is packed, unpacked.
const bytesOf = (text) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
const floats = (text) => new Float32Array(bytesOf(text).buffer);
const ragged = (packed) => ({ begins: new Uint32Array(bytesOf(packed.begins).buffer), units: new Int16Array(bytesOf(packed.units).buffer) });
const PACKED = ["scan", "obstacles", "local", "candidates", "people", "cloud", "headings"];
const NUMBERS = ["t", "poses", "covariances", "speed", "left", "truth", "error"];
const plays = data.plays.map((play) => {
  const open = { ...play };
  for (const name of PACKED) open[name] = ragged(play[name]);
  for (const name of NUMBERS) open[name] = play[name] === undefined ? null : floats(play[name]);
  return open;
});
const end = Math.max(...plays.map((play) => play.t[play.t.length - 1]));
const pointsOf = (packed, i) => {
  const points = [];
  for (let k = packed.begins[i]; k < packed.begins[i + 1]; k++) {
    points.push([data.origin[0] + data.unit * packed.units[2 * k], data.origin[1] + data.unit * packed.units[2 * k + 1]]);
  }
  return points;
};
const momentAt = (play, t) => {
  let low = 0, high = play.t.length - 1;
  while (low < high) {
    const middle = (low + high + 1) >> 1;
    if (play.t[middle] <= t + 1e-6) low = middle; else high = middle - 1;
  }
  return low;
};
const planAt = (play, t) => play.plans.filter((plan) => plan.t <= t + 1e-6).pop();

// Which layers there are: each with its mark, drawn from the lowest to the highest.
const marks = {
  line: (colour, dash = "") => `<path d="M1 7H25" stroke="${colour}" stroke-width="3" stroke-dasharray="${dash}"/>`,
  dots: (colour) => `<g fill="${colour}"><circle cx="5" cy="9" r="2"/><circle cx="13" cy="5" r="2"/><circle cx="21" cy="9" r="2"/></g>`,
  area: (colour) => `<rect x="2" y="2" width="22" height="10" fill="${colour}"/>`,
  ring: (colour) => `<ellipse cx="13" cy="7" rx="10" ry="5" fill="none" stroke="${colour}" stroke-width="2"/>`,
};
const has = (name) => plays.some((play) => play[name].units.length > 0);
const grows = plays.some((play) => play.grows);
const layers = [
  ["map", "map", marks.area(C.aubergine), true, !grows],
  ["prices", "prices of the floor", marks.area(C.rust), data.map.prices !== undefined, false],
  ["zones", "zones and stops", marks.line(C.burgundy, "2 3"), data.zones.length + data.stops.length > 0, true],
  ["seen", "all scans so far", marks.dots(C.grey), has("scan"), grows],
  ["scan", "scan", marks.dots(C.slate), has("scan"), true],
  ["cloud", "particles", marks.line(C.olive, "6 4"), has("cloud"), true],
  ["ellipse", "where it may be (95 %)", marks.ring(C.olive), plays.some((play) => play.covariances.some(Number.isFinite)), true],
  ["obstacles", "obstacles not in the map", marks.dots(C.rust), has("obstacles"), true],
  ["people", "people, with their walk", marks.dots(C.coral), has("people"), true],
  ["plan", "global plan", marks.line(C.teal), plays.some((play) => play.plans.length > 0), true],
  ["candidates", "motions weighed", marks.line(C.grey), has("candidates"), true],
  ["local", "local plan", marks.line(C.saffron), has("local"), true],
  ["way", "way believed", marks.line(C.charcoal), true, true],
  ["truth", "truth", marks.line("#000000", "4 3"), plays.some((play) => play.truth), true],
].filter((layer) => layer[3]);
const shown = {};
for (const [name, words, mark, , on] of layers) {
  shown[name] = on;
  const label = document.createElement("label");
  label.innerHTML = `<input type="checkbox" name="${name}"><svg viewBox="0 0 26 14" aria-hidden="true">${mark}</svg>`;
  label.append(words);
  const box = label.firstChild;
  box.checked = on;
  box.addEventListener("change", () => { shown[name] = box.checked; draw(); });
  byId("layers").append(label);
}

// The map and what is known of its cells.
const pictureOf = (source) => {
  if (source === undefined) return null;
  const picture = new Image();
  picture.onload = () => { if (source === data.map.facts) readFacts(picture); draw(); };
  picture.src = source;
  return picture;
};
let facts = null;
const readFacts = (picture) => {
  const sheet = document.createElement("canvas");
  sheet.width = data.map.columns; sheet.height = data.map.rows;
  const pen = sheet.getContext("2d", { willReadFrequently: true });
  pen.drawImage(picture, 0, 0);
  facts = pen.getImageData(0, 0, sheet.width, sheet.height).data;
};
const mapPicture = pictureOf(data.map.picture), pricePicture = pictureOf(data.map.prices);
pictureOf(data.map.facts);
const cellAt = (x, y) => {
  const { corner, turn, cell, rows, columns } = data.map;
  const dx = x - corner[0], dy = y - corner[1], c = Math.cos(turn), s = Math.sin(turn);
  const column = Math.floor((c * dx + s * dy) / cell), row = Math.floor((c * dy - s * dx) / cell);
  return row >= 0 && row < rows && column >= 0 && column < columns ? [row, column] : null;
};

// What is looked at: the middle of the view in metres, and pixels a metre.
const view = { x: data.origin[0], y: data.origin[1], scale: 0 };
let t = 0, playing = false, last = 0, beside = false;
const canvases = [];
const whole = () => {
  const canvas = canvases[0], { corner, turn, cell, rows, columns } = data.map;
  const w = columns * cell, h = rows * cell, c = Math.abs(Math.cos(turn)), s = Math.abs(Math.sin(turn));
  view.x = corner[0] + 0.5 * (Math.cos(turn) * w - Math.sin(turn) * h);
  view.y = corner[1] + 0.5 * (Math.sin(turn) * w + Math.cos(turn) * h);
  view.scale = 0.97 * Math.min(canvas.clientWidth / (c * w + s * h), canvas.clientHeight / (s * w + c * h));
};
const toPixel = (canvas, x, y) => [0.5 * canvas.clientWidth + view.scale * (x - view.x), 0.5 * canvas.clientHeight - view.scale * (y - view.y)];
const toPlace = (canvas, px, py) => [view.x + (px - 0.5 * canvas.clientWidth) / view.scale, view.y - (py - 0.5 * canvas.clientHeight) / view.scale];

const penOf = (canvas) => {
  const ratio = window.devicePixelRatio || 1;
  const width = Math.round(canvas.clientWidth * ratio), height = Math.round(canvas.clientHeight * ratio);
  if (canvas.width !== width || canvas.height !== height) { canvas.width = width; canvas.height = height; }
  const pen = canvas.getContext("2d");
  pen.setTransform(ratio, 0, 0, ratio, 0, 0);
  pen.clearRect(0, 0, canvas.clientWidth, canvas.clientHeight);
  return pen;
};
const hatch = (() => {
  const tile = document.createElement("canvas");
  tile.width = tile.height = 8;
  const pen = tile.getContext("2d");
  pen.fillStyle = C.sand; pen.fillRect(0, 0, 8, 8);
  pen.strokeStyle = "#C9BCA6"; pen.lineWidth = 1;
  pen.beginPath(); pen.moveTo(-2, 10); pen.lineTo(10, -2); pen.moveTo(-2, 2); pen.lineTo(2, -2); pen.moveTo(6, 10); pen.lineTo(10, 6); pen.stroke();
  return tile;
})();
const stroke = (pen, canvas, points, colour, width, dash = []) => {
  if (points.length < 2) return;
  pen.strokeStyle = colour; pen.lineWidth = width; pen.setLineDash(dash);
  pen.beginPath();
  points.forEach(([x, y], k) => { const [px, py] = toPixel(canvas, x, y); if (k) pen.lineTo(px, py); else pen.moveTo(px, py); });
  pen.stroke(); pen.setLineDash([]);
};
const dots = (pen, canvas, points, colour, radius) => {
  pen.fillStyle = colour;
  for (const [x, y] of points) { const [px, py] = toPixel(canvas, x, y); pen.fillRect(px - radius, py - radius, 2 * radius, 2 * radius); }
};
const drawPicture = (pen, canvas, picture) => {
  if (!picture || !picture.complete || !picture.naturalWidth) return;
  const { corner, turn, cell, rows, columns } = data.map;
  pen.save();
  pen.translate(...toPixel(canvas, corner[0], corner[1]));
  pen.rotate(-turn);
  pen.imageSmoothingEnabled = view.scale * cell < 1.0;
  pen.drawImage(picture, 0, -rows * cell * view.scale, columns * cell * view.scale, rows * cell * view.scale);
  pen.restore();
};
const wayUpTo = (poses, last) => {
  const points = [], every = Math.ceil((last + 1) / 3000);
  for (let i = 0; i < last; i += every) points.push([poses[3 * i], poses[3 * i + 1]]);
  points.push([poses[3 * last], poses[3 * last + 1]]);
  return points;
};
const words = (pen, text, px, py, colour = C.charcoal) => {
  pen.font = "12px system-ui, sans-serif"; pen.lineWidth = 3; pen.strokeStyle = C.paper; pen.lineJoin = "round";
  pen.strokeText(text, px, py); pen.fillStyle = colour; pen.fillText(text, px, py);
};

const drawFloor = (pen, canvas) => {
  pen.fillStyle = pen.createPattern(hatch, "repeat");
  pen.fillRect(0, 0, canvas.clientWidth, canvas.clientHeight);
  if (shown.map) drawPicture(pen, canvas, mapPicture);
  if (shown.prices) drawPicture(pen, canvas, pricePicture);
  if (shown.zones) {
    for (const zone of data.zones) stroke(pen, canvas, [...zone.polygon, zone.polygon[0]], C.burgundy, 1.5, [2, 3]);
    pen.textAlign = "center";
    for (const zone of data.zones) {
      const n = zone.polygon.length;
      const middle = zone.polygon.reduce((sum, corner) => [sum[0] + corner[0] / n, sum[1] + corner[1] / n], [0, 0]);
      if (view.scale > 14) words(pen, zone.name, ...toPixel(canvas, ...middle), C.burgundy);
    }
    for (const stop of data.stops) {
      const [px, py] = toPixel(canvas, stop.pose[0], stop.pose[1]);
      pen.fillStyle = C.teal; pen.beginPath(); pen.arc(px, py, 4, 0, 7); pen.fill();
      words(pen, stop.name, px, py - 8, C.teal);
    }
    pen.textAlign = "start";
  }
};
const drawScale = (pen, canvas) => {
  const metres = [0.5, 1, 2, 5, 10, 20, 50, 100].find((each) => each * view.scale > 60) || 200;
  const x = 14, y = canvas.clientHeight - 14;
  pen.strokeStyle = C.charcoal; pen.lineWidth = 2;
  pen.beginPath(); pen.moveTo(x, y - 4); pen.lineTo(x, y); pen.lineTo(x + metres * view.scale, y); pen.lineTo(x + metres * view.scale, y - 4); pen.stroke();
  words(pen, `${metres} m`, x + 4, y - 5);
};
const ellipse = (pen, canvas, play, i, colour) => {
  const [xx, xy, yy] = play.covariances.subarray(3 * i, 3 * i + 3);
  if (!Number.isFinite(xx)) return;
  const middle = 0.5 * (xx + yy), half = Math.hypot(0.5 * (xx - yy), xy), turn = 0.5 * Math.atan2(2 * xy, xx - yy);
  const [px, py] = toPixel(canvas, play.poses[3 * i], play.poses[3 * i + 1]);
  pen.strokeStyle = colour; pen.lineWidth = 2;
  pen.beginPath();
  pen.ellipse(px, py, Math.max(2, 2.448 * view.scale * Math.sqrt(middle + half)), Math.max(2, 2.448 * view.scale * Math.sqrt(Math.max(middle - half, 0))), -turn, 0, 7);
  pen.stroke();
};
const drawPlay = (pen, canvas, play, second) => {
  const i = momentAt(play, t), ink = second ? C.rust : C.charcoal;
  if (shown.seen) {
    const every = Math.max(1, Math.floor(i / 400));
    for (let k = 0; k <= i; k += every) dots(pen, canvas, pointsOf(play.scan, k), grows ? C.aubergine : C.grey, 0.7);
  }
  const plan = planAt(play, t);
  if (shown.plan && plan) stroke(pen, canvas, plan.poses, C.teal, 4, second ? [10, 4] : []);
  if (shown.way) stroke(pen, canvas, wayUpTo(play.poses, i), ink, 1.2);
  if (shown.truth && play.truth) stroke(pen, canvas, wayUpTo(play.truth, i), "#000000", 1.5, [5, 4]);
  if (shown.candidates) {
    const points = pointsOf(play.candidates, i), each = Math.max(play.candidate_poses[i], 1);
    for (let k = 0; k < points.length; k += each) stroke(pen, canvas, points.slice(k, k + each), C.grey, 1);
  }
  if (shown.local) stroke(pen, canvas, pointsOf(play.local, i), C.saffron, 3.5);
  if (shown.cloud) {
    const points = pointsOf(play.cloud, i), from = play.headings.begins[i];
    points.forEach(([x, y], k) => {
      const heading = play.headings.units[from + k] / 1e4, reach = 7 / view.scale;
      stroke(pen, canvas, [[x, y], [x + reach * Math.cos(heading), y + reach * Math.sin(heading)]], C.olive, 1.5);
    });
  }
  if (shown.ellipse) ellipse(pen, canvas, play, i, C.olive);
  if (shown.scan) dots(pen, canvas, pointsOf(play.scan, i), C.slate, 1.6);
  if (shown.obstacles) dots(pen, canvas, pointsOf(play.obstacles, i), C.rust, 2);
  if (shown.people) {
    const points = pointsOf(play.people, i);
    for (let k = 0; k + 1 < points.length; k += 2) {
      const [px, py] = toPixel(canvas, ...points[k]);
      pen.fillStyle = C.coral; pen.strokeStyle = C.charcoal; pen.lineWidth = 1;
      pen.beginPath(); pen.arc(px, py, view.scale * play.radii[i][k / 2], 0, 7); pen.fill(); pen.stroke();
      stroke(pen, canvas, [points[k], points[k + 1]], C.coral, 2.5);
    }
  }
  const [x, y, heading] = play.poses.subarray(3 * i, 3 * i + 3), c = Math.cos(heading), s = Math.sin(heading);
  const outline = play.outline.map(([a, b]) => [x + c * a - s * b, y + s * a + c * b]);
  stroke(pen, canvas, [...outline, outline[0]], ink, 2.5, second ? [4, 2] : []);
  const nose = Math.max(...play.outline.map(([a]) => a));
  stroke(pen, canvas, [[x, y], [x + 1.3 * nose * c, y + 1.3 * nose * s]], ink, 2.5);
  if (plays.length > 1) words(pen, play.name, ...toPixel(canvas, x + nose, y + nose), ink);
};

// The line of time: states, marks, and two curves below them.
const KINDS = {
  stop: ["stop", C.teal, "S"], state: ["state", C.charcoal, "|"], plan: ["plan", C.teal, "P"], safety: ["safety stepped in", "#A84F2A", "B"],
  people: ["people", "#B0402E", "W"], notice: ["notice", C.slate, "N"], loop: ["loop", C.olive, "L"], trouble: ["trouble", "#A84F2A", "!"],
};
const events = plays.flatMap((play, number) => play.events.map((event) => ({ ...event, number }))).sort((a, b) => a.t - b.t);
const line = byId("line");
const PAD = 9;
const toX = (when) => PAD + (line.clientWidth - 2 * PAD) * (end > 0 ? when / end : 0);
const curve = (pen, play, values, width, offset, top, height, largest, colour, dash) => {
  pen.strokeStyle = colour; pen.lineWidth = 1.4; pen.setLineDash(dash);
  pen.beginPath();
  for (let i = 0; i < play.t.length; i++) {
    const y = top + height * (1 - Math.min(Math.abs(values[width * i + offset]) / largest, 1));
    if (i) pen.lineTo(toX(play.t[i]), y); else pen.moveTo(toX(play.t[i]), y);
  }
  pen.stroke(); pen.setLineDash([]);
};
const still = document.createElement("canvas");
const drawLine = () => {
  const pen = penOf(line), ratio = window.devicePixelRatio || 1;
  if (still.width !== line.width || still.height !== line.height) {
    still.width = line.width; still.height = line.height;
    const drawn = still.getContext("2d");
    drawn.scale(ratio, ratio);
    drawHistory(drawn, line.clientWidth);
  }
  pen.drawImage(still, 0, 0, line.clientWidth, line.clientHeight);
  pen.fillStyle = C.teal; pen.fillRect(toX(t) - 1, 0, 2, 128);
};
const drawHistory = (pen, width) => {
  plays.forEach((play, number) => {
    const top = 2 + 9 * number;
    for (let i = 0; i < play.t.length; i++) {
      const state = play.states[i], trouble = /recover|stale|fail|lost|doubt|emergency/.test(state);
      pen.fillStyle = trouble ? C.rust : /driv|track|mapping/.test(state) ? "#C7DAD3" : C.sand;
      const from = toX(play.t[i]), to = i + 1 < play.t.length ? toX(play.t[i + 1]) : toX(play.t[i]) + 1;
      pen.fillRect(from, trouble ? top : top + 2, Math.max(to - from, 0.5), trouble ? 8 : 5);
    }
  });
  pen.font = "bold 11px system-ui, sans-serif"; pen.textAlign = "center";
  let free = -99;
  for (const event of events) {
    const x = toX(event.t), [, colour, letter] = KINDS[event.kind];
    pen.fillStyle = colour; pen.fillRect(x - 0.5, 20, 1, 6);
    if (x - free > 9) { pen.fillText(letter, x, 36); free = x; }
  }
  pen.textAlign = "start";
  const rows = [["speed, m/s", "speed", 2, 0], plays.some((play) => play.error) ? ["error, m", "error", 1, 0] : ["left, m", "left", 1, 0]];
  rows.forEach(([label, name, each, offset], row) => {
    const top = 53 + 42 * row, height = 28, using = plays.filter((play) => play[name]);
    const all = using.flatMap((play) => Array.from(play[name]).filter((value, k) => k % each === offset && Number.isFinite(value)).map(Math.abs));
    if (!all.length) return;
    const largest = Math.max(1e-3, all.reduce((a, b) => Math.max(a, b), 0));
    pen.strokeStyle = C.sand; pen.lineWidth = 1; pen.strokeRect(PAD, top, width - 2 * PAD, height);
    using.forEach((play, number) => curve(pen, play, play[name], each, offset, top, height, largest, number ? C.rust : C.charcoal, number ? [4, 2] : []));
    words(pen, `${label}, up to ${largest.toPrecision(2)}`, PAD, top - 3);
  });
};

// What is written: where the clock stands, what goes on, what is pointed at, what happened.
const write = (list, rows) => {
  list.replaceChildren();
  for (const [name, value] of rows) {
    const term = document.createElement("dt"), told = document.createElement("dd");
    term.textContent = name; told.textContent = value;
    list.append(term, told);
  }
};
const degrees = (radians) => `${(180 / Math.PI * radians).toFixed(0)} degrees`;
const writeNow = () => {
  byId("clock").textContent = `${t.toFixed(1)} of ${end.toFixed(1)} s`;
  const rows = [];
  plays.forEach((play) => {
    const i = momentAt(play, t);
    if (plays.length > 1) rows.push(["", play.name]);
    rows.push(["state", play.states[i]]);
    if (play.reasons[i]) rows.push(["why", play.reasons[i]]);
    rows.push(["speed", `${play.speed[2 * i].toFixed(2)} m/s, ${degrees(play.speed[2 * i + 1])}/s`]);
    if (Number.isFinite(play.left[i])) rows.push(["left", `${play.left[i].toFixed(1)} m`]);
    if (play.error) rows.push(["off", `${play.error[i].toFixed(3)} m by the truth`]);
    for (const rule of play.rules[i]) rows.push(["person", rule]);
  });
  write(byId("now"), rows);
};
const pointAt = (x, y) => {
  const rows = [["place", `${x.toFixed(2)}, ${y.toFixed(2)} m`]];
  const at = cellAt(x, y);
  if (at && facts) {
    const k = 4 * ((data.map.rows - 1 - at[0]) * data.map.columns + at[1]), code = facts[k + 2];
    rows.push(["price", code ? `${Math.exp((code - 1) / 254 * Math.log(data.map.top)).toFixed(2)} m/m` : "closed"]);
    rows.push(["clearance", `${((256 * facts[k] + facts[k + 1]) / 100).toFixed(2)} m`]);
  } else if (!at) rows.push(["", "off the map"]);
  for (const zone of data.zones) {
    let inside = false;
    zone.polygon.forEach(([ax, ay], k) => {
      const [bx, by] = zone.polygon[(k + 1) % zone.polygon.length];
      if ((ay > y) !== (by > y) && x < ax + (y - ay) / (by - ay) * (bx - ax)) inside = !inside;
    });
    if (inside) rows.push(["zone", [zone.name, zone.kind, zone.told].filter(Boolean).join(", ")]);
  }
  for (const play of plays) {
    const i = momentAt(play, t);
    rows.push([plays.length > 1 ? play.name : "robot", `${Math.hypot(x - play.poses[3 * i], y - play.poses[3 * i + 1]).toFixed(2)} m away`]);
  }
  write(byId("card"), rows);
};
const buttons = events.map((event) => {
  const item = document.createElement("li"), button = document.createElement("button"), when = document.createElement("time"), text = document.createElement("span");
  button.type = "button"; button.className = event.kind;
  when.textContent = `${event.t.toFixed(1)} s`;
  text.textContent = (plays.length > 1 ? `${plays[event.number].name}: ` : "") + event.text;
  button.append(when, text);
  button.addEventListener("click", () => seek(event.t));
  item.append(button); byId("events").append(item);
  return button;
});

const draw = () => {
  canvases.forEach((canvas, number) => {
    const pen = penOf(canvas);
    drawFloor(pen, canvas);
    plays.forEach((play, k) => { if (!beside || k === number) drawPlay(pen, canvas, play, k > 0 && !beside); });
    drawScale(pen, canvas);
  });
  drawLine(); writeNow();
  buttons.forEach((button, k) => button.classList.toggle("is-past", events[k].t <= t + 1e-6));
};
const seek = (when) => {
  t = Math.min(Math.max(when, 0), end);
  byId("slider").value = t;
  if (byId("follow").checked) {
    const i = momentAt(plays[0], t);
    view.x = plays[0].poses[3 * i]; view.y = plays[0].poses[3 * i + 1];
  }
  draw();
};
const setPlaying = (on) => {
  if (on && t >= end) t = 0;
  playing = on;
  byId("play").textContent = on ? "Pause" : "Play";
  if (on) { last = performance.now(); requestAnimationFrame(goOn); }
};
const goOn = (now) => {
  if (!playing) return;
  seek(t + Number(byId("pace").value) * Math.max(now - last, 0) / 1000);
  last = now;
  if (t >= end) setPlaying(false); else requestAnimationFrame(goOn);
};

// Pointing, moving and zooming.
const addView = () => {
  const canvas = document.createElement("canvas");
  canvas.tabIndex = 0;
  canvas.setAttribute("role", "img");
  canvas.setAttribute("aria-label", `Map: ${data.title}. Arrow keys move it, plus and minus zoom.`);
  const held = new Map();
  canvas.addEventListener("pointerdown", (event) => { held.set(event.pointerId, [event.offsetX, event.offsetY]); canvas.setPointerCapture(event.pointerId); });
  for (const name of ["pointerup", "pointercancel"]) canvas.addEventListener(name, (event) => held.delete(event.pointerId));
  canvas.addEventListener("pointermove", (event) => {
    pointAt(...toPlace(canvas, event.offsetX, event.offsetY));
    const before = held.get(event.pointerId);
    if (!before) return;
    const others = [...held].filter(([id]) => id !== event.pointerId).map(([, place]) => place);
    if (others.length) {
      const [ox, oy] = others[0];
      const was = Math.hypot(before[0] - ox, before[1] - oy), is = Math.hypot(event.offsetX - ox, event.offsetY - oy);
      if (was > 1) zoom(canvas, is / was, ox, oy);
    } else {
      view.x -= (event.offsetX - before[0]) / view.scale; view.y += (event.offsetY - before[1]) / view.scale;
    }
    held.set(event.pointerId, [event.offsetX, event.offsetY]);
    draw();
  });
  canvas.addEventListener("wheel", (event) => { event.preventDefault(); zoom(canvas, Math.exp(-0.0015 * event.deltaY), event.offsetX, event.offsetY); draw(); }, { passive: false });
  canvas.addEventListener("keydown", (event) => {
    const step = 60 / view.scale, moves = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, step], ArrowDown: [0, -step] };
    if (moves[event.key]) { view.x += moves[event.key][0]; view.y += moves[event.key][1]; }
    else if (event.key === "+" || event.key === "=") zoom(canvas, 1.25, 0.5 * canvas.clientWidth, 0.5 * canvas.clientHeight);
    else if (event.key === "-") zoom(canvas, 0.8, 0.5 * canvas.clientWidth, 0.5 * canvas.clientHeight);
    else return;
    event.preventDefault(); pointAt(view.x, view.y); draw();
  });
  canvases.push(canvas); byId("views").append(canvas);
};
const zoom = (canvas, factor, px, py) => {
  const [x, y] = toPlace(canvas, px, py);
  view.scale = Math.min(Math.max(view.scale * factor, 1), 800);
  const [nx, ny] = toPlace(canvas, px, py);
  view.x += x - nx; view.y += y - ny;
};
const setBeside = (on) => {
  beside = on;
  byId("views").replaceChildren(); canvases.length = 0;
  for (let k = 0; k < (on ? plays.length : 1); k++) addView();
  whole(); draw();
};

byId("finding").textContent = data.title;
write(byId("card"), [["", "Move over the map, or use its arrow keys"]]);
byId("slider").max = end; byId("slider").step = Math.max(0.05, end / 20000);
byId("slider").addEventListener("input", (event) => seek(Number(event.target.value)));
byId("play").addEventListener("click", () => setPlaying(!playing));
byId("whole").addEventListener("click", () => { byId("follow").checked = false; whole(); draw(); });
byId("follow").addEventListener("change", () => { if (byId("follow").checked) view.scale = Math.max(view.scale, 40); seek(t); });
byId("beside-label").hidden = plays.length < 2;
byId("beside").addEventListener("change", (event) => setBeside(event.target.checked));
line.addEventListener("pointerdown", (event) => seek((event.offsetX - PAD) / (line.clientWidth - 2 * PAD) * end));
document.addEventListener("keydown", (event) => {
  if (event.key === " " && event.target === document.body) { event.preventDefault(); setPlaying(!playing); }
});
window.addEventListener("resize", draw);
setBeside(false);
seek(0);
})();
