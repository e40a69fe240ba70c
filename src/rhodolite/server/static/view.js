// The page of one dataset: a map that asks for pictures, and series that ask for numbers.
// Plots, zooming and dragging are Bokeh's; what is shown is kept in the address.
"use strict";

const name = document.body.dataset.name;
const find = (id) => document.getElementById(id);
const root = document.body.dataset.root;
const maps = `${root}/wms/${name}`;
const data = `${root}/edr/collections/${name}`;
let about, layer, plot, picture, mark, box, playing = null, asked = 0, second = null;

const state = {
  v: null, t: 0, z: 0, member: "", units: "", map: "", palette: "", low: "", high: "", smooth: false,
  view: null, at: null, box: null, pin: "",
};
const TEXTS = ["palette", "low", "high", "member", "units", "map", "pin"];

function readAddress() {
  const given = new URLSearchParams(location.hash.slice(1));
  const numbers = (key, count) => {
    const parts = (given.get(key) || "").split(",").map(Number);
    return parts.length === count && parts.every(Number.isFinite) ? parts : null;
  };
  state.v = given.get("v");
  state.t = given.get("t") ?? "";
  state.z = Number(given.get("z") || 0);
  for (const key of TEXTS) state[key] = given.get(key) || "";
  state.smooth = given.get("smooth") === "1";
  state.view = numbers("view", 4);
  state.at = numbers("at", 2);
  state.box = numbers("box", 4);
}

function writeAddress() {
  const words = new URLSearchParams();
  for (const [key, value] of Object.entries(state)) {
    if (value === null || value === "" || value === false) continue;
    words.set(key, value === true ? "1" : Array.isArray(value) ? value.map((x) => +x.toFixed(4)) : value);
  }
  // The time itself, so that the link shows the same when there are more of them.
  words.delete("t");
  if (layer.moments.length) words.set("t", layer.moments[state.t]);
  history.replaceState(null, "", `#${words}`);
}

const style = () => (state.smooth ? "smooth" : "cells") + (state.palette ? `/${state.palette}` : "");
const limits = () => (state.low !== "" && state.high !== "" ? { LIMITS: `${state.low},${state.high}` } : {});
const moment = () => (layer.moments.length ? { TIME: layer.moments[state.t] } : {});
const height = () => ({
  ...(layer.levels.length ? { ELEVATION: layer.levels[state.z] } : {}),
  ...(layer.members.length ? { DIM_MEMBER: state.member } : {}),
  ...(state.units ? { UNITS: state.units } : {}),
});
const unit = () => layer.other_units.find((one) => one.units === state.units)?.text || layer.units;
const polar = () => about.maps.find((one) => one.crs === state.map);

function show() {
  writeAddress();
  const [west, east] = [plot.x_range.start, plot.x_range.end];
  const beyond = polar() ? Infinity : 90;
  const [south, north] = [Math.max(plot.y_range.start, -beyond), Math.min(plot.y_range.end, beyond)];
  if (!(east > west && north > south)) return;
  const inner = plot.inner_width || find("map").clientWidth || 800;
  const width = Math.max(64, Math.min(1600, Math.round(inner)));
  const rows = Math.max(32, Math.min(1600, Math.round(width * (north - south) / (east - west))));
  showTicks();
  const frame = { CRS: polar() ? state.map : "CRS:84", BBOX: [west, south, east, north], WIDTH: width, HEIGHT: rows,
    FORMAT: "image/png" };
  const words = new URLSearchParams({
    SERVICE: "WMS", VERSION: "1.3.0", REQUEST: "GetMap", LAYERS: layer.name, STYLES: style(),
    TRANSPARENT: "TRUE", ...frame, ...moment(), ...height(), ...limits(),
  });
  offerMap(words, [west, south, east, north]);
  if (second) second.show(frame, [west, south, east, north]);
  // A picture is shown when it is there, and only if no later one has been asked for.
  const number = ++asked, image = new Image();
  image.onload = () => {
    if (number !== asked) return;
    picture.data = { url: [image.src], x: [west], y: [north], w: [east - west], h: [north - south] };
    find("map").dataset.shown = String(number);
  };
  image.src = `${maps}?${words}`;
  find("date").textContent = layer.labels[state.t] || "";
  find("step").value = state.t;
  find("step").setAttribute("aria-valuetext", layer.labels[state.t] || "");
}

function later(work, wait) {
  let timer;
  return () => { clearTimeout(timer); timer = setTimeout(work, wait); };
}

function showLegend() {
  const words = new URLSearchParams({
    SERVICE: "WMS", VERSION: "1.3.0", REQUEST: "GetLegendGraphic", LAYER: layer.name, STYLE: style(),
    ...height(), ...limits(),
  });
  find("legend-image").src = `${maps}?${words}`;
  find("legend-image").alt = `Legend of ${layer.quantity} in ${unit() || "no units"}`;
}

function offerMap(words, [west, south, east, north]) {
  const stem = `${name}_${layer.name}`;
  find("map-png").href = `${maps}?${words}`;
  find("map-png").download = `${stem}.png`;
  const bounds = [Math.max(west, -360), Math.max(south, -90), Math.min(east, 360), Math.min(north, 90)];
  if (east - west >= 360) Object.assign(bounds, { 0: -180, 2: 180 });
  const part = new URLSearchParams({
    bbox: bounds, "parameter-name": layer.name, ...seriesWords(),
    ...(layer.moments.length ? { datetime: layer.moments[state.t] } : {}),
  });
  for (const [id, format, suffix] of [["map-csv", "CSV", "csv"], ["map-netcdf", "NetCDF", "nc"]]) {
    find(id).href = `${data}/cube?${part}&f=${format}`;
    find(id).download = `${stem}.${suffix}`;
    find(id).hidden = Boolean(polar());
  }
}

const seriesWords = () => ({
  ...(layer.levels.length ? { z: layer.levels[state.z] } : {}),
  ...(layer.members.length ? { member: state.member } : {}),
  ...(state.units ? { units: state.units } : {}),
});

const degree = (x, letters) => {
  const turnedX = letters === "EW" ? turned(x) : x;
  const text = +Math.abs(turnedX).toFixed(4);
  return text === 0 || text === 180 ? `${text}°` : `${text}°${turnedX > 0 ? letters[0] : letters[1]}`;
};

function showTicks() {
  if (polar()) return;
  for (const [axis, range, letters] of [[plot.xaxis, plot.x_range, "EW"], [plot.yaxis, plot.y_range, "NS"]]) {
    const width = range.end - range.start;
    const step = [0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 90].find((one) => width / one <= 8) || 90;
    const ticks = [];
    for (let x = Math.ceil(range.start / step) * step; x <= range.end; x += step) ticks.push(+x.toFixed(6));
    axis.ticker = new Bokeh.FixedTicker({ ticks, minor_ticks: [] });
    axis.major_label_overrides = new Map(ticks.map((x) => [x, degree(x, letters)]));
  }
}

function fill(select, options, chosen) {
  select.replaceChildren(...options.map(([value, text]) => new Option(text, value, false, value === chosen)));
}

function choose(variable) {
  layer = about.layers.find((one) => one.name === variable) || about.layers[0];
  state.v = layer.name;
  if (!Number.isInteger(state.t)) state.t = layer.moments.findIndex((one) => one.startsWith(state.t || "-"));
  if (state.t < 0 || state.t >= layer.moments.length) state.t = Math.max(0, layer.moments.length - 1);
  if (!layer.members.includes(state.member)) state.member = layer.members[0] || "";
  if (!layer.other_units.some((one) => one.units === state.units)) state.units = "";
  find("member-field").hidden = layer.members.length < 2;
  fill(find("member"), layer.members.map((one) => [one, one]), state.member);
  find("units-field").hidden = !layer.other_units.length;
  fill(find("units-choice"), [["", layer.units], ...layer.other_units.map((one) => [one.units, one.text])], state.units);
  if (!(state.z >= 0 && state.z < layer.levels.length)) state.z = 0;
  find("time").hidden = layer.moments.length < 2;
  find("step").max = Math.max(0, layer.moments.length - 1);
  find("level-field").hidden = layer.levels.length < 2;
  fill(find("level"), layer.levels.map((one, at) => [String(at), `${one} ${layer.level_units}`]), String(state.z));
  find("variable").value = layer.name;
}

function goTo(step) {
  const count = layer.moments.length;
  state.t = ((step % count) + count) % count;
  show();
}

function play() {
  if (playing) { clearInterval(playing); playing = null; } else {
    playing = setInterval(() => goTo(state.t + 1), 700);
  }
  find("play").setAttribute("aria-pressed", String(Boolean(playing)));
}

const number = (value) => (value === null ? "no value" : `${+value.toPrecision(6)} ${unit()}`.trim());
const degrees = (x, letters) => `${Math.abs(x).toFixed(2)}°${x >= 0 ? letters[0] : letters[1]}`;
const turned = (x) => ((((x + 180) % 360) + 360) % 360) - 180;
const place = (x, y) => `${degrees(y, "NS")} ${degrees(turned(x), "EW")}`;

async function readSeries(query, words, title) {
  const wanted = { ...words, "parameter-name": layer.name, ...seriesWords() };
  const address = `${data}/${query}?${new URLSearchParams(wanted)}`;
  const answer = await fetch(address);
  const found = await answer.json();
  if (!answer.ok) { find("value").textContent = found.detail; return null; }
  const values = found.ranges[layer.name].values;
  const axes = found.domain.axes;
  const [x, y] = [axes.x.values[0], axes.y.values[0]];
  const where = title || place(x, y);
  const now = values[Math.min(state.t, values.length - 1)];
  find("value").textContent = `${layer.quantity}: ${layer.classes[now] ?? number(now)}, ${where}` +
    (layer.labels.length ? `, ${layer.labels[state.t]}` : "");
  find("value").dataset.value = now === null ? "" : String(now);
  drawSeries(values, where);
  find("download").href = `${address}&f=CSV`;
  find("download").download = `${name}_${layer.name}.csv`;
  find("download-netcdf").href = `${address}&f=NetCDF`;
  find("download-netcdf").download = `${name}_${layer.name}.nc`;
  return [x, y];
}

function drawSeries(values, where) {
  find("series-part").hidden = layer.moments.length < 2;
  if (layer.moments.length < 2) return;
  find("series-title").textContent = `${layer.quantity}, ${where}`;
  const times = layer.moments.map((one) => Date.parse(one));
  const figure = new Bokeh.Plotting.figure({
    height: 240, sizing_mode: "stretch_width", x_axis_type: "datetime", tools: "xpan,xwheel_zoom,reset",
    toolbar_location: null, y_axis_label: unit(), output_backend: "canvas",
  });
  const dated = times.every(Number.isFinite) ? times : values.map((_, at) => at);
  figure.line(dated, values.map((one) => (one === null ? NaN : one)), { line_width: 1.5, line_color: "#1d5aa8" });
  const target = find("series");
  target.replaceChildren();
  target.dataset.count = String(values.length);
  Bokeh.Plotting.show(figure, target);
}

async function readPoint(x, y) {
  state.at = [x, y]; state.box = null; writeAddress();
  box.data = { left: [], right: [], top: [], bottom: [] };
  const cell = await readSeries("position", { coords: `POINT(${turned(x)} ${y})` }, null);
  mark.data = cell && !polar() ? { x: [x], y: [y] } : { x: [], y: [] };
}

async function readBox(west, south, east, north) {
  state.box = [west, south, east, north]; state.at = null; writeAddress();
  mark.data = { x: [], y: [] };
  box.data = { left: [west], right: [east], top: [north], bottom: [south] };
  const title = `mean of ${place(west, south)} to ${place(east, north)}`;
  const [left, right] = east - west >= 360 ? [-180, 180] : [west, east];
  await readSeries("cube", { bbox: [left, Math.max(south, -90), right, Math.min(north, 90)], over: "area" }, title);
}

// A tap on a map of a pole tells metres; the server knows which cell lies there.
async function readTap(x, y) {
  if (!polar()) return readPoint(x, y);
  const [left, right, low, high] = [plot.x_range.start, plot.x_range.end, plot.y_range.start, plot.y_range.end];
  const size = 1000;
  const words = new URLSearchParams({
    SERVICE: "WMS", VERSION: "1.3.0", REQUEST: "GetFeatureInfo", LAYERS: layer.name, QUERY_LAYERS: layer.name,
    STYLES: "", CRS: state.map, BBOX: [left, low, right, high], WIDTH: size, HEIGHT: size,
    I: Math.floor(size * (x - left) / (right - left)), J: Math.floor(size * (high - y) / (high - low)),
    INFO_FORMAT: "application/json", ...moment(), ...height(),
  });
  const cell = await (await fetch(`${maps}?${words}`)).json();
  if (cell.latitude === undefined) { find("value").textContent = "No cell lies there."; return null; }
  await readPoint(cell.longitude, cell.latitude);
  mark.data = { x: [x], y: [y] };
}

function frameOf(given, room) {
  const [west, south, east, north] = given;
  const most = Math.max(260, Math.min(560, innerHeight * 0.58));
  // As wide as there is room, and as tall as degrees are wide.
  const tall = Math.round(polar() ? most : Math.max(220, Math.min(most, room * (north - south) / (east - west) + 30)));
  const square = polar() ? { width: tall, height: tall } : { sizing_mode: "stretch_width", height: tall };
  const frame = new Bokeh.Plotting.figure({
    ...square,
    x_range: new Bokeh.Range1d({ start: west, end: east }), y_range: new Bokeh.Range1d({ start: south, end: north }),
    tools: "pan,wheel_zoom,tap,box_select", active_scroll: "wheel_zoom", toolbar_location: null,
    background_fill_color: "#eceff3", match_aspect: false, output_backend: "canvas",
  });
  if (polar()) for (const axis of [frame.xaxis, frame.yaxis]) axis.visible = false;
  return frame;
}

function addCoast(frame) {
  const xs = [], ys = [];
  const known = polar();
  for (const shift of known ? [0] : [-360, 0, 360]) for (const line of known ? known.coast : about.coast) {
    xs.push(line[0].map((x) => x + shift)); ys.push(line[1]);
  }
  const coast = new Bokeh.ColumnDataSource({ data: { xs, ys } });
  frame.multi_line({ field: "xs" }, { field: "ys" }, { source: coast, line_color: "#222a33", line_width: 0.8 });
}

function addPicture(frame) {
  const source = new Bokeh.ColumnDataSource({ data: { url: [], x: [], y: [], w: [], h: [] } });
  frame.image_url({ field: "url" }, { field: "x" }, { field: "y" }, { field: "w" }, { field: "h" }, { source, anchor: "top_left" });
  return source;
}

// What is kept beside: a variable, level, member and time as they are now, which goes where the map goes.
function pin(text) {
  state.pin = text;
  const target = find("second-map");
  target.replaceChildren();
  find("second").hidden = !text;
  target.classList.toggle("polar", Boolean(polar()));
  find("pin").textContent = text ? "no map beside" : "keep beside";
  document.body.classList.toggle("with-second", Boolean(text));
  second = null;
  if (!text) { writeAddress(); return; }
  const words = Object.fromEntries(new URLSearchParams(text));
  const shown = about.layers.find((one) => one.name === words.LAYERS);
  if (!shown) { pin(""); return; }
  const frame = frameOf([plot.x_range.start, plot.y_range.start, plot.x_range.end, plot.y_range.end], find("second-map").clientWidth || 500);
  const source = addPicture(frame);
  addCoast(frame);
  const at = shown.moments.indexOf(words.TIME);
  find("second-title").textContent = [shown.quantity, words.ELEVATION && `${words.ELEVATION} ${shown.level_units}`,
    words.DIM_MEMBER, shown.labels[at]].filter(Boolean).join(", ");
  const legend = new URLSearchParams({ ...words, SERVICE: "WMS", VERSION: "1.3.0", REQUEST: "GetLegendGraphic",
    LAYER: words.LAYERS, STYLE: words.STYLES });
  find("second-legend").src = `${maps}?${legend}`;
  find("second-legend").alt = `Legend of ${shown.quantity}`;
  second = {
    show(given, [west, south, east, north]) {
      for (const key of ["x_range", "y_range"]) frame[key].setv({ start: plot[key].start, end: plot[key].end });
      const map = new URLSearchParams({ SERVICE: "WMS", VERSION: "1.3.0", REQUEST: "GetMap", TRANSPARENT: "TRUE", ...given, ...words });
      const image = new Image();
      image.onload = () => { source.data = { url: [image.src], x: [west], y: [north], w: [east - west], h: [north - south] }; };
      image.src = `${maps}?${map}`;
    },
  };
  for (const axis of [frame.xaxis, frame.yaxis]) axis.visible = false;
  Bokeh.Plotting.show(frame, target).then(() => setTimeout(show, 50));
}

const pinned = () => String(new URLSearchParams({ LAYERS: layer.name, STYLES: style(), ...moment(), ...height(), ...limits() }));

function makeMap() {
  const home = polar() ? polar().view : about.view;
  const [west, south, east, north] = state.view || home;
  find("draw-box").hidden = Boolean(polar());
  find("map").classList.toggle("polar", Boolean(polar()));
  plot = frameOf([west, south, east, north], find("map").clientWidth || 800);
  picture = addPicture(plot);
  addCoast(plot);
  box = new Bokeh.ColumnDataSource({ data: { left: [], right: [], top: [], bottom: [] } });
  plot.quad({ field: "left" }, { field: "right" }, { field: "top" }, { field: "bottom" },
    { source: box, fill_alpha: 0, line_color: "#111", line_width: 2, line_dash: "dashed" });
  mark = new Bokeh.ColumnDataSource({ data: { x: [], y: [] } });
  plot.scatter({ field: "x" }, { field: "y" }, { source: mark, size: 12, marker: "cross", line_color: "#111", line_width: 2 });
  const moved = later(() => {
    state.view = [plot.x_range.start, plot.y_range.start, plot.x_range.end, plot.y_range.end];
    show();
  }, 180);
  for (const range of [plot.x_range, plot.y_range]) for (const end of ["start", "end"]) {
    range.properties[end].change.connect(moved);
  }
  plot.on_event("tap", (event) => readTap(event.x, event.y));
  plot.on_event("selectiongeometry", ({ geometry: found }) => {
    if (found.type !== "rect" || !drawing()) return;
    readBox(Math.min(found.x0, found.x1), Math.min(found.y0, found.y1), Math.max(found.x0, found.x1), Math.max(found.y0, found.y1));
    toggleDrawing();
  });
  find("map").replaceChildren();
  Bokeh.Plotting.show(plot, find("map")).then(() => setTimeout(show, 50));
}

const drawing = () => find("draw-box").getAttribute("aria-pressed") === "true";

function toggleDrawing() {
  const on = !drawing();
  find("draw-box").setAttribute("aria-pressed", String(on));
  const tools = plot.toolbar.tools;
  const [pan, select] = ["PanTool", "BoxSelectTool"].map((kind) => tools.find((tool) => tool.type === kind));
  plot.toolbar.active_drag = on ? select : pan;
  pan.active = !on; select.active = on;
}

function move(right, up, scale) {
  const [x, y] = [plot.x_range, plot.y_range];
  const [width, tall] = [x.end - x.start, y.end - y.start];
  const [cx, cy] = [(x.start + x.end) / 2 + right * width, (y.start + y.end) / 2 + up * tall];
  x.setv({ start: cx - width * scale / 2, end: cx + width * scale / 2 });
  y.setv({ start: cy - tall * scale / 2, end: cy + tall * scale / 2 });
}

function connect() {
  const changed = (work) => () => { work(); showLegend(); show(); };
  find("variable").onchange = changed(() => {
    Object.assign(state, { low: "", high: "" });
    find("low").value = find("high").value = "";
    choose(find("variable").value);
  });
  find("level").onchange = changed(() => { state.z = Number(find("level").value); });
  find("member").onchange = changed(() => { state.member = find("member").value; readAgain(); });
  find("units-choice").onchange = changed(() => {
    Object.assign(state, { units: find("units-choice").value, low: "", high: "" });
    find("low").value = find("high").value = "";
    readAgain();
  });
  find("projection").onchange = () => {
    Object.assign(state, { map: find("projection").value, view: null, at: null, box: null });
    makeMap();
    if (state.pin) pin(state.pin);
  };
  find("pin").onclick = () => pin(state.pin ? "" : pinned());
  find("palette").onchange = changed(() => { state.palette = find("palette").value; });
  find("smooth").onchange = changed(() => { state.smooth = find("smooth").checked; });
  for (const id of ["low", "high"]) find(id).onchange = changed(() => { state[id] = find(id).value.trim(); });
  find("controls").onsubmit = (event) => event.preventDefault();
  find("step").oninput = () => goTo(Number(find("step").value));
  find("first").onclick = () => goTo(0);
  find("last").onclick = () => goTo(layer.moments.length - 1);
  find("back").onclick = () => goTo(state.t - 1);
  find("forward").onclick = () => goTo(state.t + 1);
  find("play").onclick = play;
  find("zoom-in").onclick = () => move(0, 0, 0.5);
  find("zoom-out").onclick = () => move(0, 0, 2);
  find("draw-box").onclick = toggleDrawing;
  find("whole").onclick = () => {
    const [west, south, east, north] = polar() ? polar().view : about.view;
    plot.x_range.setv({ start: west, end: east });
    plot.y_range.setv({ start: south, end: north });
  };
  find("map").onkeydown = (event) => {
    const moves = { ArrowLeft: [-0.2, 0, 1], ArrowRight: [0.2, 0, 1], ArrowUp: [0, 0.2, 1], ArrowDown: [0, -0.2, 1],
      "+": [0, 0, 0.5], "=": [0, 0, 0.5], "-": [0, 0, 2] };
    if (event.key === "Enter") {
      readTap((plot.x_range.start + plot.x_range.end) / 2, (plot.y_range.start + plot.y_range.end) / 2);
    } else if (moves[event.key]) move(...moves[event.key]); else return;
    event.preventDefault();
  };
}

function readAgain() {
  if (state.at) readPoint(...state.at);
  if (state.box) readBox(...state.box);
}

async function begin() {
  about = await window.described;
  readAddress();
  fill(find("variable"), about.layers.map((one) => [one.name, one.quantity]), state.v);
  fill(find("palette"), [["", "usual"], ...about.palettes.map((one) => [one, one])], state.palette);
  for (const id of ["low", "high"]) find(id).value = state[id];
  find("smooth").checked = state.smooth;
  if (!polar()) state.map = "";
  find("projection-field").hidden = !about.maps.length;
  fill(find("projection"), [["", "world"], ...about.maps.map((one) => [one.crs, one.title])], state.map);
  choose(state.v);
  document.body.classList.toggle("with-series", about.layers.some((one) => one.moments.length > 1));
  connect();
  makeMap();
  showLegend();
  if (state.pin) pin(state.pin);
  if (state.at) await readPoint(...state.at);
  if (state.box) await readBox(...state.box);
}

begin().catch((error) => { find("value").textContent = `The page could not be made: ${error.message}`; });
