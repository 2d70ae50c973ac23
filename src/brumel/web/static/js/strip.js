// The settling strip, drawn: the trace, the band it must stay in, the window that is judged, and where it is heading.

import { line, scaleLinear } from "../vendor/d3.js";

const WIDTH = 620;
const HEIGHT = 230;
// Room for the longest figure of the axis; on a phone the words of drawings are larger.
const roomLeft = (labels) => {
  const letter = window.matchMedia("(max-width: 760px)").matches ? 12.5 : 8;
  return Math.max(58, 12 + letter * Math.max(...labels.map((label) => label.length)));
};
const RIGHT = 560;
const TOP = 14;
const BOTTOM = 196;
const SVG = "http://www.w3.org/2000/svg";
const MOST_POINTS = 700;

const add = (svg, name, attributes, text) => {
  const element = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
  if (text !== undefined) element.textContent = text;
  svg.append(element);
  return element;
};

const extent = (values) =>
  values.reduce(([low, high], v) => [Math.min(low, v), Math.max(high, v)], [Infinity, -Infinity]);

// Every n-th point and always the last, so that a long trace stays quick to draw.
const thin = (points) => {
  const step = Math.ceil(points.length / MOST_POINTS);
  return points.filter((_, i) => i % step === 0 || i === points.length - 1);
};

export const drawStrip = (svg, trace, judged, options) => {
  svg.replaceChildren();
  let left = 58;
  if (!trace.t.length) {
    add(svg, "path", { class: "d-axis", d: `M${left},${TOP}V${BOTTOM}H${RIGHT}` });
    add(svg, "text", { class: "d-on-line", x: left + 12, y: (TOP + BOTTOM) / 2 }, "nothing read yet");
    return;
  }
  const end = trace.t.at(-1);
  const heading = judged.forecast ?? null;
  const span = Math.max(
    options.shortest * 1.3,
    end + Math.min(judged.to_go ?? judged.most_to_go ?? 0, 90) + 4,
  );
  const middle = judged.value ?? trace.y.at(-1);
  // The scale follows the end of the trace, so that the band stays wide enough to see; the approach runs off the paper.
  const since = end - 2 * options.window;
  const recent = trace.y.filter((_, i) => trace.t[i] >= since);
  const [low, high] = extent([
    ...recent,
    heading ?? middle,
    middle - options.band * 3,
    middle + options.band * 3,
  ]);
  const pad = (high - low) * 0.06;
  const y = scaleLinear([low - pad, high + pad], [BOTTOM, TOP]);
  const ticks = y.ticks(4);
  const digits = Math.max(0, -Math.floor(Math.log10(Math.abs(ticks[1] - ticks[0]) || 1)));
  const labels = ticks.map((tick) => tick.toFixed(digits).replace("-", "−"));
  left = roomLeft(labels);
  const x = scaleLinear([0, span], [left, RIGHT]);

  for (const [i, tick] of ticks.entries()) {
    add(svg, "path", { class: "d-rule", d: `M${left},${y(tick)}H${RIGHT}` });
    add(svg, "text", { class: "d-tick d-tick-y", x: left - 6, y: y(tick) + 4 }, labels[i]);
  }
  // On a phone the words are larger, so the axis's own take more of its end.
  const words = window.matchMedia("(max-width: 760px)").matches ? 215 : 140;
  for (const tick of x.ticks(6).filter((t) => x(t) < WIDTH - words))
    add(svg, "text", { class: "d-tick", x: x(tick), y: BOTTOM + 16 }, tick);
  const from = Math.max(0, end - options.window);
  add(svg, "rect", {
    class: "d-strip-band",
    x: x(from),
    width: Math.max(RIGHT - x(from), 1),
    y: y(middle + options.band),
    height: Math.max(y(middle - options.band) - y(middle + options.band), 1),
  });
  add(svg, "path", { class: "d-strip-window", d: `M${x(from)},${TOP}V${BOTTOM}M${x(end)},${TOP}V${BOTTOM}` });
  add(
    svg,
    "text",
    { class: "d-on-line", x: Math.min(x(from) + 4, RIGHT - 90), y: BOTTOM - 6 },
    `last ${options.window} s`,
  );
  if (options.shortest > end) {
    add(svg, "path", { class: "d-limit", d: `M${x(options.shortest)},${TOP}V${BOTTOM}` });
    add(
      svg,
      "text",
      { class: "d-on-line", x: x(options.shortest) + 4, y: TOP + 12 },
      `not before ${options.shortest} s`,
    );
  }
  const points = thin(trace.t.map((t, i) => [x(t), y(trace.y[i])]));
  const paper = add(svg, "clipPath", { id: "strip-paper" });
  add(paper, "rect", { x: left, y: TOP, width: RIGHT - left, height: BOTTOM - TOP });
  add(svg, "path", { class: "d-line", d: line()(points), "clip-path": "url(#strip-paper)" });
  if (options.source === "typed")
    for (const [px, py] of points.filter(([, v]) => v >= TOP && v <= BOTTOM))
      add(svg, "circle", { class: "d-strip-dot", cx: px, cy: py, r: 3.5 });
  if (heading !== null && judged.state !== "settled") {
    add(svg, "path", {
      class: "d-strip-forecast",
      d: `M${x(end)},${y(trace.y.at(-1))}L${RIGHT - 6},${y(heading)}`,
    });
    add(svg, "circle", { class: "d-strip-end", cx: RIGHT - 6, cy: y(heading), r: 4.5 });
    add(svg, "text", { class: "d-point", x: RIGHT + 4, y: y(heading) + 4 }, heading.toFixed(options.digits));
  }
  add(svg, "path", { class: "d-axis", d: `M${left},${TOP}V${BOTTOM}H${RIGHT}` });
  add(svg, "text", { class: "d-unit", x: left + 4, y: TOP - 3 }, options.unit);
  add(svg, "text", { class: "d-unit d-unit-end", x: WIDTH - 4, y: BOTTOM + 16 }, "s since it was dipped");
  svg.setAttribute("viewBox", `0 0 ${WIDTH} ${HEIGHT}`);
};
