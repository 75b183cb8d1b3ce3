(() => {
const data = JSON.parse(byId("data").textContent);
const C = data.colours;

// What is packed, unpacked.
const ragged = (packed) => ({ begins: new Uint32Array(bytesOf(packed.begins).buffer), units: new Int16Array(bytesOf(packed.units).buffer) });
const pointsOf = (packed, i) => {
  const points = [];
  for (let k = packed.begins[i]; k < packed.begins[i + 1]; k++) {
    points.push([data.origin[0] + data.unit * packed.units[2 * k], data.origin[1] + data.unit * packed.units[2 * k + 1]]);
  }
  return points;
};
const wayOf = (poses, last) => {
  if (!poses) return [];
  const points = [], every = Math.ceil((last + 1) / 3000);
  for (let i = 0; i < last; i += every) points.push([poses[3 * i], poses[3 * i + 1]]);
  points.push([poses[3 * last], poses[3 * last + 1]]);
  return points;
};
const opened = (told) => {
  const packed = {}, columns = {};
  for (const name of ["scan", "obstacles", "local", "candidates", "people", "cloud", "headings"]) packed[name] = ragged(told[name]);
  for (const name of ["t", "poses", "covariances", "speed", "left", "truth", "error"]) columns[name] = told[name] === undefined ? null : floats(told[name]);
  const parts = (points, each) => {
    const ways = [];
    for (let k = 0; k < points.length; k += each) ways.push(points.slice(k, k + each));
    return ways;
  };
  return {
    name: told.name, outline: told.outline, grows: told.grows, events: told.events, columns, states: told.states,
    has: (name) => packed[name].units.length > 0,
    hasPlans: told.plans.length > 0,
    moment: (i) => ({
      pose: columns.poses.subarray(3 * i, 3 * i + 3), covariance: columns.covariances.subarray(3 * i, 3 * i + 3),
      speed: columns.speed[2 * i], turn_rate: columns.speed[2 * i + 1], left: columns.left[i],
      state: told.states[i], reason: told.reasons[i], rules: told.rules[i], shut: told.shut[i], radii: told.radii[i],
      error: columns.error ? columns.error[i] : NaN,
      cloud: pointsOf(packed.cloud, i),
      headings: Array.from(packed.headings.units.subarray(packed.headings.begins[i], packed.headings.begins[i + 1]), (unit) => unit / 1e4),
      obstacles: pointsOf(packed.obstacles, i), local: pointsOf(packed.local, i), people: pointsOf(packed.people, i),
      candidates: parts(pointsOf(packed.candidates, i), Math.max(told.candidate_poses[i], 1)),
    }),
    scan: (i) => pointsOf(packed.scan, i),
    way: (i) => wayOf(columns.poses, i),
    truth: (i) => wayOf(columns.truth, i),
    plan: (i) => {
      const plan = told.plans.filter((each) => each.t <= columns.t[i] + 1e-4).pop();
      return plan ? plan.poses : [];
    },
    at: (t) => {
      let low = 0, high = columns.t.length - 1;
      while (low < high) {
        const middle = (low + high + 1) >> 1;
        if (columns.t[middle] <= t + 1e-6) low = middle; else high = middle - 1;
      }
      return low;
    },
  };
};
const plays = data.plays.map(opened);
const several = plays.length > 1, grows = plays.some((play) => play.grows);
const end = Math.max(...plays.map((play) => play.columns.t[play.columns.t.length - 1]));
let t = 0, playing = false, last = 0, beside = false;

const has = (name) => {
  if (name === "prices") return data.map.prices !== undefined;
  if (name === "zones") return data.zones.length + data.stops.length > 0;
  if (name === "map" || name === "way") return true;
  if (name === "edges") return false;
  if (name === "seen") return plays.some((play) => play.has("scan"));
  if (name === "ellipse") return plays.some((play) => play.columns.covariances.some(Number.isFinite));
  if (name === "plan") return plays.some((play) => play.hasPlans);
  if (name === "truth") return plays.some((play) => play.columns.truth);
  return plays.some((play) => play.has(name));
};
const on = (name) => name === "map" ? !grows : name === "seen" ? grows : name !== "prices";
const floor = new Floor(data, layersOf(C, has, on), (number) => plays
  .map((play, k) => ({ play, i: play.at(t), second: k > 0 && !beside, named: several, k }))
  .filter(({ k }) => !beside || k === number));

// The line of time: states, marks, and two curves below them.
const KINDS = {
  stop: [C.teal, "S"], state: [C.charcoal, "|"], plan: [C.teal, "P"], safety: ["#A84F2A", "B"], people: ["#B0402E", "W"],
  notice: [C.slate, "N"], loop: [C.olive, "L"], trouble: ["#A84F2A", "!"],
};
const events = plays.flatMap((play, number) => play.events.map((event) => ({ ...event, number }))).sort((a, b) => a.t - b.t);
const line = byId("line"), still = document.createElement("canvas"), PAD = 9;
const toX = (when) => PAD + (line.clientWidth - 2 * PAD) * (end > 0 ? when / end : 0);
const drawCurve = (pen, t, values, top, height, largest, colour, dash) => {
  pen.strokeStyle = colour; pen.lineWidth = 1.4; pen.setLineDash(dash);
  pen.beginPath();
  values.forEach((value, i) => {
    const y = top + height * (1 - Math.min(Math.abs(value) / largest, 1));
    if (i) pen.lineTo(toX(t[i]), y); else pen.moveTo(toX(t[i]), y);
  });
  pen.stroke(); pen.setLineDash([]);
};
const drawHistory = (pen, width) => {
  plays.forEach(({ columns, states }, number) => {
    const top = 2 + 9 * number;
    for (let i = 0; i < columns.t.length; i++) {
      const trouble = /recover|stale|fail|lost|doubt|emergency/.test(states[i]);
      pen.fillStyle = trouble ? C.rust : /driv|track|mapping/.test(states[i]) ? "#C7DAD3" : C.sand;
      const from = toX(columns.t[i]), to = i + 1 < columns.t.length ? toX(columns.t[i + 1]) : from + 1;
      pen.fillRect(from, trouble ? top : top + 2, Math.max(to - from, 0.5), trouble ? 8 : 5);
    }
  });
  pen.font = "bold 11px system-ui, sans-serif"; pen.textAlign = "center";
  // Where letters would lie over each other, what happened goes before a mere change of state.
  const taken = [];
  for (const event of [...events].sort((a, b) => (a.kind === "state") - (b.kind === "state"))) {
    const x = toX(event.t), [colour, letter] = KINDS[event.kind];
    pen.fillStyle = colour; pen.fillRect(x - 0.5, 20, 1, 6);
    if (taken.every((other) => Math.abs(x - other) > 9)) { pen.fillText(letter, x, 36); taken.push(x); }
  }
  pen.textAlign = "start";
  const everySecond = (values) => values.filter((_, k) => k % 2 === 0);
  const rows = [["speed, m/s", (columns) => everySecond(columns.speed)], has("truth") ? ["error, m", (columns) => columns.error] : ["left, m", (columns) => columns.left]];
  rows.forEach(([label, of], row) => {
    const top = 53 + 42 * row, height = 28, using = plays.map((play) => [play.columns.t, of(play.columns)]).filter(([, values]) => values);
    const largest = using.reduce((most, [, values]) => values.reduce((a, b) => Number.isFinite(b) ? Math.max(a, Math.abs(b)) : a, most), 0);
    if (largest === 0) return;
    pen.strokeStyle = C.sand; pen.lineWidth = 1; pen.strokeRect(PAD, top, width - 2 * PAD, height);
    using.forEach(([when, values], k) => drawCurve(pen, when, values, top, height, largest, k ? C.rust : C.charcoal, k ? [4, 2] : []));
    floor.words(pen, `${label}, up to ${largest.toPrecision(2)}`, PAD, top - 3);
  });
};
const drawLine = () => {
  const pen = Floor.penOf(line), ratio = window.devicePixelRatio || 1;
  if (still.width !== line.width || still.height !== line.height) {
    still.width = line.width; still.height = line.height;
    const drawn = still.getContext("2d");
    drawn.scale(ratio, ratio);
    drawHistory(drawn, line.clientWidth);
  }
  pen.drawImage(still, 0, 0, line.clientWidth, line.clientHeight);
  pen.fillStyle = C.teal; pen.fillRect(toX(t) - 1, 0, 2, 128);
};

const buttons = events.map((event) => {
  const item = document.createElement("li"), button = document.createElement("button"), when = document.createElement("time"), text = document.createElement("span");
  button.type = "button"; button.className = event.kind;
  when.textContent = `${event.t.toFixed(1)} s`;
  text.textContent = (several ? `${plays[event.number].name}: ` : "") + event.text;
  button.append(when, text);
  button.addEventListener("click", () => seek(event.t));
  item.append(button); byId("events").append(item);
  return button;
});
const draw = () => {
  floor.draw(); drawLine();
  byId("clock").textContent = `${t.toFixed(1)} of ${end.toFixed(1)} s`;
  write(byId("now"), plays.flatMap((play) => [...(several ? [["", play.name]] : []), ...toldOf(play.moment(play.at(t)))]));
  buttons.forEach((button, k) => button.classList.toggle("is-past", events[k].t <= t + 1e-6));
};
const seek = (when) => {
  t = Math.min(Math.max(when, 0), end);
  byId("slider").value = t;
  if (byId("follow").checked) [floor.view.x, floor.view.y] = plays[0].moment(plays[0].at(t)).pose;
  draw();
};
const setPlaying = (goes) => {
  if (goes && t >= end) t = 0;
  playing = goes;
  byId("play").textContent = goes ? "Pause" : "Play";
  if (goes) { last = performance.now(); requestAnimationFrame(goOn); }
};
const goOn = (now) => {
  if (!playing) return;
  seek(t + Number(byId("pace").value) * Math.max(now - last, 0) / 1000);
  last = now;
  if (t >= end) setPlaying(false); else requestAnimationFrame(goOn);
};

byId("finding").textContent = data.title;
write(byId("card"), [["", "Move over the map, or use its arrow keys"]]);
byId("slider").max = end; byId("slider").step = Math.max(0.05, end / 20000);
byId("slider").addEventListener("input", (event) => seek(Number(event.target.value)));
byId("play").addEventListener("click", () => setPlaying(!playing));
byId("whole").addEventListener("click", () => { byId("follow").checked = false; floor.whole(); draw(); });
byId("follow").addEventListener("change", () => { if (byId("follow").checked) floor.view.scale = Math.max(floor.view.scale, 40); seek(t); });
byId("beside-label").hidden = !several;
byId("beside").addEventListener("change", (event) => { beside = event.target.checked; floor.setViews(beside ? plays.length : 1); draw(); });
line.addEventListener("pointerdown", (event) => seek((event.offsetX - PAD) / (line.clientWidth - 2 * PAD) * end));
document.addEventListener("keydown", (event) => {
  if (event.key === " " && event.target === document.body) { event.preventDefault(); setPlaying(!playing); }
});
window.addEventListener("resize", draw);
floor.setViews(1);
seek(0);
})();
