"use strict";
// The floor and what is on it: shared by all pages. A play has `name`, `outline`, `moment(i)`, `way(i)`, `truth(i)`,
// `scan(i)` and `plan(i)`, all in metres in the site frame.
const byId = (id) => document.getElementById(id);
const bytesOf = (text) => {
  if (Uint8Array.fromBase64) return Uint8Array.fromBase64(text);
  const read = atob(text), bytes = new Uint8Array(read.length);
  for (let k = 0; k < read.length; k++) bytes[k] = read.charCodeAt(k);
  return bytes;
};
const floats = (text) => new Float32Array(bytesOf(text).buffer);
const degrees = (radians) => `${(180 / Math.PI * radians).toFixed(0)} degrees`;
const write = (list, rows) => {
  list.replaceChildren();
  for (const [name, value] of rows) {
    const term = document.createElement("dt"), told = document.createElement("dd");
    term.textContent = name; told.textContent = value;
    list.append(term, told);
  }
};

class Floor {
  // `data` holds the map, its zones and stops; `plays()` tells which plays are drawn in view k, each at which moment.
  constructor(data, layers, plays, pointed) {
    Object.assign(this, { data, plays, pointed, canvases: [], shown: {}, facts: null });
    this.view = { x: data.origin[0], y: data.origin[1], scale: 0 };
    this.hatch = this.makeHatch();
    this.showLayers(layers);
    this.takeMap(data.map);
  }

  showLayers(layers) {
    for (const [name, words, mark, on] of layers) {
      this.shown[name] = on;
      const label = document.createElement("label");
      label.innerHTML = `<input type="checkbox" name="${name}"><svg viewBox="0 0 26 14" aria-hidden="true">${mark}</svg>`;
      label.append(words);
      const box = label.firstChild;
      box.checked = on;
      box.addEventListener("change", () => { this.shown[name] = box.checked; this.draw(); });
      byId("layers").append(label);
    }
  }

  takeMap(map) {
    this.data.map = map;
    this.mapPicture = this.pictureOf(map.picture);
    this.pricePicture = this.pictureOf(map.prices);
    this.pictureOf(map.facts, (picture) => {
      const sheet = document.createElement("canvas");
      sheet.width = map.columns; sheet.height = map.rows;
      const pen = sheet.getContext("2d", { willReadFrequently: true });
      pen.drawImage(picture, 0, 0);
      this.facts = pen.getImageData(0, 0, sheet.width, sheet.height).data;
    });
  }

  pictureOf(source, then = () => {}) {
    if (source === undefined) return null;
    const picture = new Image();
    picture.onload = () => { then(picture); this.draw(); };
    picture.src = source;
    return picture;
  }

  makeHatch() {
    const tile = document.createElement("canvas");
    tile.width = tile.height = 8;
    const pen = tile.getContext("2d");
    pen.fillStyle = this.data.colours.sand; pen.fillRect(0, 0, 8, 8);
    pen.strokeStyle = "#C9BCA6"; pen.lineWidth = 1;
    pen.beginPath(); pen.moveTo(-2, 10); pen.lineTo(10, -2); pen.moveTo(-2, 2); pen.lineTo(2, -2); pen.moveTo(6, 10); pen.lineTo(10, 6); pen.stroke();
    return tile;
  }

  // What is looked at.
  whole() {
    const canvas = this.canvases[0], { corner, turn, cell, rows, columns } = this.data.map;
    const w = columns * cell, h = rows * cell, c = Math.abs(Math.cos(turn)), s = Math.abs(Math.sin(turn));
    this.view.x = corner[0] + 0.5 * (Math.cos(turn) * w - Math.sin(turn) * h);
    this.view.y = corner[1] + 0.5 * (Math.sin(turn) * w + Math.cos(turn) * h);
    this.view.scale = 0.97 * Math.min(canvas.clientWidth / (c * w + s * h), canvas.clientHeight / (s * w + c * h));
  }

  toPixel(canvas, x, y) {
    return [0.5 * canvas.clientWidth + this.view.scale * (x - this.view.x), 0.5 * canvas.clientHeight - this.view.scale * (y - this.view.y)];
  }

  toPlace(canvas, px, py) {
    return [this.view.x + (px - 0.5 * canvas.clientWidth) / this.view.scale, this.view.y - (py - 0.5 * canvas.clientHeight) / this.view.scale];
  }

  zoom(canvas, factor, px, py) {
    const [x, y] = this.toPlace(canvas, px, py);
    this.view.scale = Math.min(Math.max(this.view.scale * factor, 1), 800);
    const [nx, ny] = this.toPlace(canvas, px, py);
    this.view.x += x - nx; this.view.y += y - ny;
  }

  setViews(count) {
    byId("views").replaceChildren(); this.canvases.length = 0;
    for (let k = 0; k < count; k++) this.addView();
    this.whole(); this.draw();
  }

  addView() {
    const canvas = document.createElement("canvas"), held = new Map();
    canvas.tabIndex = 0;
    canvas.setAttribute("role", "img");
    canvas.setAttribute("aria-label", `Map: ${this.data.title}. Arrow keys move it, plus and minus zoom.`);
    canvas.addEventListener("pointerdown", (event) => {
      canvas.setPointerCapture(event.pointerId);
      if (this.grab && this.grab("down", this.toPlace(canvas, event.offsetX, event.offsetY))) return;
      held.set(event.pointerId, [event.offsetX, event.offsetY]);
    });
    for (const name of ["pointerup", "pointercancel"]) {
      canvas.addEventListener(name, (event) => {
        held.delete(event.pointerId);
        if (this.grab) this.grab(name === "pointerup" ? "up" : "off", this.toPlace(canvas, event.offsetX, event.offsetY));
      });
    }
    canvas.addEventListener("pointermove", (event) => {
      const place = this.toPlace(canvas, event.offsetX, event.offsetY);
      this.point(...place);
      if (this.grab && this.grab("move", place)) return;
      const before = held.get(event.pointerId);
      if (!before) return;
      const others = [...held].filter(([id]) => id !== event.pointerId).map(([, at]) => at);
      if (others.length) {
        const [ox, oy] = others[0];
        const was = Math.hypot(before[0] - ox, before[1] - oy), is = Math.hypot(event.offsetX - ox, event.offsetY - oy);
        if (was > 1) this.zoom(canvas, is / was, ox, oy);
      } else {
        this.view.x -= (event.offsetX - before[0]) / this.view.scale; this.view.y += (event.offsetY - before[1]) / this.view.scale;
      }
      held.set(event.pointerId, [event.offsetX, event.offsetY]);
      this.draw();
    });
    canvas.addEventListener("wheel", (event) => {
      event.preventDefault();
      this.zoom(canvas, Math.exp(-0.0015 * event.deltaY), event.offsetX, event.offsetY); this.draw();
    }, { passive: false });
    canvas.addEventListener("keydown", (event) => {
      const step = 60 / this.view.scale, middle = [0.5 * canvas.clientWidth, 0.5 * canvas.clientHeight];
      const moves = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, step], ArrowDown: [0, -step] };
      if (moves[event.key]) { this.view.x += moves[event.key][0]; this.view.y += moves[event.key][1]; }
      else if (event.key === "+" || event.key === "=") this.zoom(canvas, 1.25, ...middle);
      else if (event.key === "-") this.zoom(canvas, 0.8, ...middle);
      else return;
      event.preventDefault(); this.point(this.view.x, this.view.y); this.draw();
    });
    this.canvases.push(canvas); byId("views").append(canvas);
  }

  // How things are drawn.
  static penOf(canvas) {
    const ratio = window.devicePixelRatio || 1;
    const width = Math.round(canvas.clientWidth * ratio), height = Math.round(canvas.clientHeight * ratio);
    if (canvas.width !== width || canvas.height !== height) { canvas.width = width; canvas.height = height; }
    const pen = canvas.getContext("2d");
    pen.setTransform(ratio, 0, 0, ratio, 0, 0);
    pen.clearRect(0, 0, canvas.clientWidth, canvas.clientHeight);
    return pen;
  }

  stroke(pen, canvas, points, colour, width, dash = []) {
    if (points.length < 2) return;
    pen.strokeStyle = colour; pen.lineWidth = width; pen.setLineDash(dash);
    pen.beginPath();
    points.forEach(([x, y], k) => { const [px, py] = this.toPixel(canvas, x, y); if (k) pen.lineTo(px, py); else pen.moveTo(px, py); });
    pen.stroke(); pen.setLineDash([]);
  }

  dots(pen, canvas, points, colour, radius) {
    pen.fillStyle = colour;
    for (const [x, y] of points) { const [px, py] = this.toPixel(canvas, x, y); pen.fillRect(px - radius, py - radius, 2 * radius, 2 * radius); }
  }

  words(pen, text, px, py, colour = this.data.colours.charcoal) {
    pen.font = "12px system-ui, sans-serif"; pen.lineWidth = 3; pen.strokeStyle = this.data.colours.paper; pen.lineJoin = "round";
    pen.strokeText(text, px, py); pen.fillStyle = colour; pen.fillText(text, px, py);
  }

  drawPicture(pen, canvas, picture) {
    if (!picture || !picture.complete || !picture.naturalWidth) return;
    const { corner, turn, cell, rows, columns } = this.data.map;
    pen.save();
    pen.translate(...this.toPixel(canvas, corner[0], corner[1]));
    pen.rotate(-turn);
    pen.imageSmoothingEnabled = this.view.scale * cell < 1.0;
    pen.drawImage(picture, 0, -rows * cell * this.view.scale, columns * cell * this.view.scale, rows * cell * this.view.scale);
    pen.restore();
  }

  drawFloor(pen, canvas) {
    const { shown, data } = this, C = data.colours;
    pen.fillStyle = pen.createPattern(this.hatch, "repeat");
    pen.fillRect(0, 0, canvas.clientWidth, canvas.clientHeight);
    if (shown.map) this.drawPicture(pen, canvas, this.mapPicture);
    if (shown.prices) this.drawPicture(pen, canvas, this.pricePicture);
    if (!shown.zones) return;
    pen.textAlign = "center";
    for (const zone of data.zones) {
      this.stroke(pen, canvas, [...zone.polygon, zone.polygon[0]], C.burgundy, 1.5, [2, 3]);
      const n = zone.polygon.length;
      const middle = zone.polygon.reduce((sum, corner) => [sum[0] + corner[0] / n, sum[1] + corner[1] / n], [0, 0]);
      if (this.view.scale > 14) this.words(pen, zone.name, ...this.toPixel(canvas, ...middle), C.burgundy);
    }
    for (const stop of data.stops) {
      const [px, py] = this.toPixel(canvas, stop.pose[0], stop.pose[1]);
      pen.fillStyle = C.teal; pen.beginPath(); pen.arc(px, py, 4, 0, 7); pen.fill();
      this.words(pen, stop.name, px, py - 8, C.teal);
    }
    pen.textAlign = "start";
  }

  drawScale(pen, canvas) {
    const { scale } = this.view, metres = [0.5, 1, 2, 5, 10, 20, 50, 100].find((each) => each * scale > 60) || 200;
    const x = 14, y = canvas.clientHeight - 14;
    pen.strokeStyle = this.data.colours.charcoal; pen.lineWidth = 2;
    pen.beginPath(); pen.moveTo(x, y - 4); pen.lineTo(x, y); pen.lineTo(x + metres * scale, y); pen.lineTo(x + metres * scale, y - 4); pen.stroke();
    this.words(pen, `${metres} m`, x + 4, y - 5);
  }

  drawEllipse(pen, canvas, [x, y], [xx, xy, yy], colour) {
    if (!Number.isFinite(xx)) return;
    const middle = 0.5 * (xx + yy), half = Math.hypot(0.5 * (xx - yy), xy), turn = 0.5 * Math.atan2(2 * xy, xx - yy);
    const [px, py] = this.toPixel(canvas, x, y), reach = 2.448 * this.view.scale;
    pen.strokeStyle = colour; pen.lineWidth = 2;
    pen.beginPath();
    pen.ellipse(px, py, Math.max(2, reach * Math.sqrt(middle + half)), Math.max(2, reach * Math.sqrt(Math.max(middle - half, 0))), -turn, 0, 7);
    pen.stroke();
  }

  drawPlay(pen, canvas, play, i, second, named) {
    const { shown } = this, C = this.data.colours, ink = second ? C.rust : C.charcoal, now = play.moment(i);
    if (shown.seen) {
      const every = Math.max(1, Math.floor(i / 400));
      for (let k = 0; k <= i; k += every) this.dots(pen, canvas, play.scan(k), play.grows ? C.aubergine : C.grey, 0.7);
    }
    if (shown.plan) this.stroke(pen, canvas, play.plan(i), C.teal, 4, second ? [10, 4] : []);
    if (shown.way) this.stroke(pen, canvas, play.way(i), ink, 1.2);
    if (shown.truth) this.stroke(pen, canvas, play.truth(i), "#000000", 1.5, [5, 4]);
    if (shown.candidates) for (const way of now.candidates) this.stroke(pen, canvas, way, C.grey, 1);
    if (shown.local) this.stroke(pen, canvas, now.local, C.saffron, 3.5);
    if (shown.cloud) {
      const reach = 7 / this.view.scale;
      now.cloud.forEach(([x, y], k) => {
        const heading = now.headings[k];
        this.stroke(pen, canvas, [[x, y], [x + reach * Math.cos(heading), y + reach * Math.sin(heading)]], C.olive, 1.5);
      });
    }
    if (shown.ellipse) this.drawEllipse(pen, canvas, now.pose, now.covariance, C.olive);
    if (shown.edges) this.dots(pen, canvas, play.edges, C.saffron, 2.2);
    if (shown.scan) this.dots(pen, canvas, play.scan(i), C.slate, 1.6);
    if (shown.obstacles) this.dots(pen, canvas, now.obstacles, C.rust, 2);
    if (shown.people) {
      for (let k = 0; k + 1 < now.people.length; k += 2) {
        const [px, py] = this.toPixel(canvas, ...now.people[k]);
        pen.fillStyle = C.coral; pen.strokeStyle = C.charcoal; pen.lineWidth = 1;
        pen.beginPath(); pen.arc(px, py, this.view.scale * now.radii[k / 2], 0, 7); pen.fill(); pen.stroke();
        this.stroke(pen, canvas, [now.people[k], now.people[k + 1]], C.coral, 2.5);
      }
    }
    this.drawBody(pen, canvas, play.outline, now.pose, ink, second ? [4, 2] : []);
    if (named) this.words(pen, play.name, ...this.toPixel(canvas, now.pose[0] + 0.6, now.pose[1] + 0.6), ink);
  }

  drawBody(pen, canvas, outline, [x, y, heading], colour, dash = []) {
    const c = Math.cos(heading), s = Math.sin(heading), nose = 1.3 * Math.max(...outline.map(([a]) => a));
    const corners = outline.map(([a, b]) => [x + c * a - s * b, y + s * a + c * b]);
    this.stroke(pen, canvas, [...corners, corners[0]], colour, 2.5, dash);
    this.stroke(pen, canvas, [[x, y], [x + nose * c, y + nose * s]], colour, 2.5);
  }

  draw() {
    this.canvases.forEach((canvas, number) => {
      const pen = Floor.penOf(canvas);
      this.drawFloor(pen, canvas);
      for (const { play, i, second, named } of this.plays(number)) this.drawPlay(pen, canvas, play, i, second, named);
      if (this.over) this.over(pen, canvas);
      this.drawScale(pen, canvas);
    });
  }

  // What is known of a place.
  point(x, y) {
    const { data, facts } = this, { corner, turn, cell, rows, columns } = data.map;
    const told = [["place", `${x.toFixed(2)}, ${y.toFixed(2)} m`]];
    const dx = x - corner[0], dy = y - corner[1], c = Math.cos(turn), s = Math.sin(turn);
    const column = Math.floor((c * dx + s * dy) / cell), row = Math.floor((c * dy - s * dx) / cell);
    if (row < 0 || row >= rows || column < 0 || column >= columns) told.push(["", "off the map"]);
    else if (facts) {
      const k = 4 * ((rows - 1 - row) * columns + column), code = facts[k + 2];
      told.push(["price", code ? `${Math.exp((code - 1) / 254 * Math.log(data.map.top)).toFixed(2)} m/m` : "closed"]);
      told.push(["clearance", `${((256 * facts[k] + facts[k + 1]) / 100).toFixed(2)} m`]);
    }
    for (const zone of data.zones) {
      let inside = false;
      zone.polygon.forEach(([ax, ay], k) => {
        const [bx, by] = zone.polygon[(k + 1) % zone.polygon.length];
        if ((ay > y) !== (by > y) && x < ax + (y - ay) / (by - ay) * (bx - ax)) inside = !inside;
      });
      if (inside) told.push(["zone", [zone.name, zone.kind, zone.told].filter(Boolean).join(", ")]);
    }
    for (const { play, i, named } of this.canvases.flatMap((_, number) => this.plays(number))) {
      const [px, py] = play.moment(i).pose;
      told.push([named ? play.name : "robot", `${Math.hypot(x - px, y - py).toFixed(2)} m away`]);
    }
    write(byId("card"), told);
    if (this.pointed) this.pointed(x, y);
  }
}

// The layers, from the lowest to the highest, each with its mark; those that pages have nothing for are left out.
const layersOf = (C, has, on) => {
  const line = (colour, dash = "") => `<path d="M1 7H25" stroke="${colour}" stroke-width="3" stroke-dasharray="${dash}"/>`;
  const dots = (colour) => `<g fill="${colour}"><circle cx="5" cy="9" r="2"/><circle cx="13" cy="5" r="2"/><circle cx="21" cy="9" r="2"/></g>`;
  const area = (colour) => `<rect x="2" y="2" width="22" height="10" fill="${colour}"/>`;
  const ring = (colour) => `<ellipse cx="13" cy="7" rx="10" ry="5" fill="none" stroke="${colour}" stroke-width="2"/>`;
  return [
    ["map", "map", area(C.aubergine)],
    ["prices", "prices of the floor", area(C.rust)],
    ["zones", "zones and stops", line(C.burgundy, "2 3")],
    ["seen", "all scans so far", dots(C.grey)],
    ["edges", "open edges, to drive past", dots(C.saffron)],
    ["scan", "scan", dots(C.slate)],
    ["cloud", "particles", line(C.olive, "6 4")],
    ["ellipse", "where it may be (95 %)", ring(C.olive)],
    ["obstacles", "obstacles not in the map", dots(C.rust)],
    ["people", "people, with their walk", dots(C.coral)],
    ["plan", "global plan", line(C.teal)],
    ["candidates", "motions weighed", line(C.grey)],
    ["local", "local plan", line(C.saffron)],
    ["way", "way believed", line(C.charcoal)],
    ["truth", "truth", line("#000000", "4 3")],
  ].filter(([name]) => has(name)).map(([name, words, mark]) => [name, words, mark, on(name)]);
};

// What a moment says, in rows of the card.
const toldOf = (now) => {
  const rows = [["state", now.state]];
  if (now.reason) rows.push(["why", now.reason]);
  rows.push(["speed", `${now.speed.toFixed(2)} m/s, ${degrees(now.turn_rate)}/s`]);
  if (Number.isFinite(now.left)) rows.push(["left", `${now.left.toFixed(1)} m`]);
  if (Number.isFinite(now.error)) rows.push(["off", `${now.error.toFixed(3)} m by the truth`]);
  for (const rule of now.rules) rows.push(["person", rule]);
  for (const why of now.shut) rows.push(["shut out", why]);
  return rows;
};
