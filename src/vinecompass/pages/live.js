(() => {
let data = null, floor = null, line = null, talk = null, plan = [], outline = [];
const moments = [], MOST = 6000, SPAN = 60;

// What is told becomes a play whose last moment is now.
const lost = { pose: [0, 0, 0], covariance: [NaN, NaN, NaN], speed: 0, turn_rate: 0, left: NaN, state: "no word yet", reason: "", rules: [], shut: [], cloud: [], headings: [], obstacles: [], local: [], candidates: [], people: [], radii: [], scan: [] };
const now = () => moments[moments.length - 1] || lost;
const play = {
  name: "robot", grows: false, edges: [],
  get outline() { return outline; },
  moment: (i) => moments[i] || lost,
  scan: (i) => (moments[i] || lost).scan,
  way: (i) => moments.slice(0, i + 1).map((each) => each.pose),
  truth: (i) => moments.slice(0, i + 1).filter((each) => each.true).map((each) => each.true),
  plan: () => plan,
};

// Tools: what a press on the map means. Poses and walks are dragged, places pressed, zones pulled open.
const TOOLS = [
  ["look", "look"], ["here", "here it is"], ["go", "go there"], ["then", "then there"], ["why", "what does it cost?"],
  ["crate", "a crate"], ["walker", "somebody walks"], ["zone", "close off"], ["slow", "slow floor"],
];
let tool = "look", from = null, to = null;
const order = (said) => { if (talk && talk.readyState === 1) talk.send(JSON.stringify(said)); };
const orderAt = (pose) => {
  const [x, y, heading] = pose;
  if (tool === "here") order({ do: "here", pose });
  else if (tool === "go" || tool === "then" || tool === "look") order({ do: "go", pose, afterwards: tool === "then" });
  else if (tool === "why") order({ do: "why", place: [x, y] });
  else if (tool === "crate") order({ do: "crate", place: [x, y] });
  else if (tool === "walker") order({ do: "walker", route: [[x, y], [x + 3 * Math.cos(heading), y + 3 * Math.sin(heading)]] });
  else order({ do: "zone", zone: zoneOf([x - 0.5, y - 0.5], [x + 0.5, y + 0.5]) });
};
let drawn = 0;
const zoneOf = ([ax, ay], [bx, by]) => {
  const zone = { name: `drawn ${++drawn}`, kind: tool === "slow" ? "slow" : "closed", polygon: [[ax, ay], [bx, ay], [bx, by], [ax, by]] };
  return tool === "slow" ? { ...zone, speed: 0.3 } : zone;
};
const grab = (what, place) => {
  if (tool === "look") return false;
  if (what === "down") { from = to = place; }
  else if (what === "move") { if (!from) return true; to = place; }
  else {
    const dx = to[0] - from[0], dy = to[1] - from[1], drag = Math.hypot(dx, dy);
    if (what === "up") {
      if (tool === "walker" && drag > 0.3) order({ do: "walker", route: [from, to] });
      else if ((tool === "zone" || tool === "slow") && Math.abs(dx) > 0.1 && Math.abs(dy) > 0.1) order({ do: "zone", zone: zoneOf(from, to) });
      else orderAt([...from, drag > 0.1 ? Math.atan2(dy, dx) : now().pose[2]]);
    }
    from = to = null;
  }
  floor.draw();
  return true;
};
const drawPointing = (pen, canvas) => {
  if (!from) return;
  const colour = tool === "here" ? data.colours.olive : data.colours.teal;
  if (tool === "zone" || tool === "slow") floor.stroke(pen, canvas, [from, [to[0], from[1]], to, [from[0], to[1]], from], data.colours.burgundy, 2, [4, 3]);
  else floor.drawBody(pen, canvas, outline, [...from, Math.atan2(to[1] - from[1], to[0] - from[0])], colour);
};

// The last minute.
const drawLine = () => {
  if (!data) return;
  const pen = Floor.penOf(line), width = line.clientWidth, end = now().t || 0, PAD = 9;
  const toX = (t) => PAD + (width - 2 * PAD) * Math.min(Math.max((t - end + SPAN) / SPAN, 0), 1);
  const last = moments.filter((each) => each.t > end - SPAN);
  const rows = [["speed, m/s", (each) => each.speed], moments.some((each) => Number.isFinite(each.error)) ? ["error, m", (each) => each.error] : ["left, m", (each) => each.left]];
  rows.forEach(([label, of], row) => {
    const top = 18 + 44 * row, height = 28, largest = last.reduce((most, each) => Number.isFinite(of(each)) ? Math.max(most, Math.abs(of(each))) : most, 1e-3);
    pen.strokeStyle = data.colours.sand; pen.lineWidth = 1; pen.strokeRect(PAD, top, width - 2 * PAD, height);
    pen.strokeStyle = data.colours.charcoal; pen.lineWidth = 1.4;
    pen.beginPath();
    last.forEach((each, k) => {
      const y = top + height * (1 - Math.abs(of(each) || 0) / largest);
      if (k) pen.lineTo(toX(each.t), y); else pen.moveTo(toX(each.t), y);
    });
    pen.stroke();
    floor.words(pen, `${label}, up to ${largest.toPrecision(2)} in the last minute`, PAD, top - 4);
  });
};

const note = ({ t, kind, text }) => {
  const item = document.createElement("li"), when = document.createElement("time"), words = document.createElement("span");
  when.textContent = t === undefined ? "" : `${t.toFixed(1)} s`;
  words.textContent = text; words.className = kind;
  item.append(when, " ", words);
  byId("events").prepend(item);
  while (byId("events").childElementCount > 300) byId("events").lastChild.remove();
};
const take = (told) => {
  if (told.floor) {
    outline = told.outline;
    if (floor) { data.zones = told.floor.zones; floor.takeMap(told.floor.map); return; }
    data = told.floor;
    const recording = told.kind === "recording";
    const hidden = ["seen", ...(told.world ? [] : ["truth"]), ...(recording ? ["prices", "zones", "cloud", "ellipse", "obstacles", "plan", "candidates", "local"] : ["edges"])];
    for (const each of document.querySelectorAll(".driving")) each.hidden = recording;
    byId("keys").checked = recording;
    floor = new Floor(data, layersOf(data.colours, (name) => !hidden.includes(name), (name) => name !== "prices"), () => [{ play, i: moments.length - 1 }]);
    floor.grab = grab; floor.over = drawPointing;
    for (const stop of data.stops) byId("stop").append(new Option(stop.name));
    for (const each of document.querySelectorAll("#tools input")) each.disabled = !told.world && ["crate", "walker"].includes(each.value);
    floor.setViews(1);
  }
  if (told.plan) plan = told.plan;
  if (told.edges) play.edges = told.edges;
  if (told.answer) note({ kind: "trouble", text: told.answer });
  for (const event of told.events || []) note(event);
  if (!told.now) return;
  for (const name of ["left", "error"]) if (told.now[name] === null) told.now[name] = NaN;
  told.now.covariance = told.now.covariance.map((value) => value === null ? NaN : value);
  if (moments.length && told.now.t < now().t) moments.length = 0;
  moments.push(told.now);
  if (moments.length > MOST) moments.splice(0, MOST / 2);
  show();
};
let waits = false;
const show = () => {
  if (waits) return;
  waits = true;
  requestAnimationFrame(() => {
    waits = false;
    if (byId("follow").checked) [floor.view.x, floor.view.y] = now().pose;
    byId("finding").textContent = `${data.title}: ${now().state}${now().reason ? `, ${now().reason}` : ""}`;
    write(byId("now"), toldOf(now()));
    floor.draw(); drawLine();
  });
};

// Talking with the loop; a connection that is lost is made again.
const connect = () => {
  talk = new WebSocket(`${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/talk${location.search}`);
  talk.onopen = () => { byId("events").replaceChildren(); document.body.dataset.talks = "yes"; };
  talk.onmessage = (event) => take(JSON.parse(event.data));
  talk.onclose = () => {
    document.body.dataset.talks = "no";
    byId("finding").textContent = "No word from the loop; asking again";
    setTimeout(connect, 1000);
  };
};

// Driving by hand, ten times a second for as long as a key is held.
const held = new Set();
const KEYS = { w: [1, 0], s: [-1, 0], a: [0, 1], d: [0, -1] };
document.addEventListener("keydown", (event) => {
  const key = event.key.toLowerCase();
  if (byId("keys").checked && KEYS[key] && event.target.type !== "text") held.add(key);
});
document.addEventListener("keyup", (event) => held.delete(event.key.toLowerCase()));
window.addEventListener("blur", () => held.clear());
setInterval(() => {
  if (!byId("keys").checked) return;
  let ahead = 0, turn = 0;
  for (const key of held) { ahead += KEYS[key][0]; turn += KEYS[key][1]; }
  const pad = (navigator.getGamepads ? [...navigator.getGamepads()] : []).find((each) => each);
  if (pad && Math.hypot(pad.axes[0], pad.axes[1]) > 0.1) { ahead = -pad.axes[1]; turn = -pad.axes[0]; }
  const within = (value) => Math.min(Math.max(value, -1), 1);
  if (ahead || turn) order({ do: "drive", ahead: within(0.6 * ahead), turn: within(0.5 * turn) });
}, 100);

for (const [value, words] of TOOLS) {
  const label = document.createElement("label"), box = document.createElement("input");
  Object.assign(box, { type: "radio", name: "tool", value, checked: value === tool });
  box.addEventListener("change", () => { tool = value; });
  label.append(box, words);
  byId("tools").append(label);
}
line = byId("line");
write(byId("card"), [["", "Move over the map, or use its arrow keys"]]);
byId("end").addEventListener("click", () => order({ do: "end" }));
byId("hold").addEventListener("click", () => order({ do: "hold" }));
byId("goon").addEventListener("click", () => order({ do: "go on" }));
byId("cancel").addEventListener("click", () => order({ do: "cancel" }));
byId("send").addEventListener("click", () => {
  const stop = data.stops.find((each) => each.name === byId("stop").value);
  if (stop) order({ do: "go", pose: stop.pose, name: stop.name, afterwards: tool === "then" });
});
byId("apply").addEventListener("click", () => {
  const [x, y, turned = 0] = byId("pose").value.split(",").map(Number);
  if ([x, y, turned].every(Number.isFinite)) orderAt([x, y, turned * Math.PI / 180]);
  else note({ kind: "trouble", text: "x, y, degrees: three numbers with commas between" });
});
byId("turn").addEventListener("click", () => {
  const text = byId("value").value.trim(), number = Number(text);
  order({ do: "set", key: byId("key").value.trim(), value: text !== "" && Number.isFinite(number) ? number : text });
});
byId("unzone").addEventListener("click", () => order({ do: "unzone", name: byId("zone").value }));
byId("whole").addEventListener("click", () => { byId("follow").checked = false; floor.whole(); floor.draw(); });
byId("follow").addEventListener("change", () => { floor.view.scale = Math.max(floor.view.scale, 40); });
window.addEventListener("resize", () => { if (floor) { floor.draw(); drawLine(); } });
connect();
})();
