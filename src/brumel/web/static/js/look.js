// The record of a deployment on one axis of time: every span is asked for anew, thinned by Brumel for the columns there are.
import uPlot from "../vendor/uplot.js";

const root = document.querySelector("[data-record]");
const about = JSON.parse(root.dataset.record);
const charts = root.querySelector("[data-charts]");
const shown = root.querySelector("[data-shown]");
const valuesFold = root.querySelector("[data-values]");
const MOST_LISTED = 300;
const HEIGHT = 190;

const ink = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const local = (seconds) => uPlot.tzDate(new Date(seconds * 1e3), about.zone);
// As figures stand everywhere here: no mark between thousands, a true minus.
const plain = (value) => String(Number(value.toPrecision(8))).replace("-", "−");
const pad = (n) => String(n).padStart(2, "0");
const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

const words = (seconds) => {
  const at = local(seconds);
  return `${at.getDate()} ${MONTHS[at.getMonth()]} ${at.getFullYear()}, ${pad(at.getHours())}:${pad(at.getMinutes())}`;
};
const typed = (seconds) => {
  const at = local(seconds);
  const day = `${at.getFullYear()}-${pad(at.getMonth() + 1)}-${pad(at.getDate())}`;
  return `${day}T${pad(at.getHours())}:${pad(at.getMinutes())}:${pad(at.getSeconds())}`;
};

// A day, or the time of day where they stand closer; a year's first day says its year.
const tickOf = (seconds, step) => {
  const at = local(seconds);
  const isMidnight = at.getHours() === 0 && at.getMinutes() === 0;
  if (step < 86400 && !isMidnight) return `${pad(at.getHours())}:${pad(at.getMinutes())}`;
  const day = `${at.getDate()} ${MONTHS[at.getMonth()]}`;
  return at.getMonth() === 0 && at.getDate() === 1 ? `${day} ${at.getFullYear()}` : day;
};

let span = [...about.span];
let asked = 0;

const isInside = (from, until) => until >= span[0] && from <= span[1];

// The grades of what is reported, by name along the foot of the drawing, a stroke where one begins.
const gradesOn = ({ ctx, bbox }, x, grades) => {
  const scale = window.devicePixelRatio || 1;
  ctx.font = `${11 * scale}px sans-serif`;
  ctx.textAlign = "left";
  ctx.textBaseline = "alphabetic";
  ctx.fillStyle = ink("--ink-soft");
  ctx.strokeStyle = ink("--ink-soft");
  for (const [from, until, name] of grades) {
    const left = Math.max(x(from), bbox.left);
    const right = Math.min(x(until), bbox.left + bbox.width);
    const foot = bbox.top + bbox.height;
    ctx.beginPath();
    ctx.moveTo(left, foot);
    ctx.lineTo(left, foot - 12 * scale);
    ctx.stroke();
    if (ctx.measureText(name).width + 8 * scale < right - left)
      ctx.fillText(name, left + 4 * scale, foot - 4 * scale);
  }
};

// What stands behind and over the curves: flagged stretches, visits, the site's limits, odd values.
const marksOf = (channel, odd, grades) => (chart) => {
  const { ctx, bbox } = chart;
  const x = (seconds) => chart.valToPos(seconds, "x", true);
  const y = (value) => chart.valToPos(value, "y", true);
  ctx.save();
  ctx.beginPath();
  ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.clip();
  for (const [from, until] of channel.marks.filter(([a, b]) => isInside(a, b))) {
    ctx.globalAlpha = 0.3;
    ctx.fillStyle = ink("--ochre");
    ctx.fillRect(x(from), bbox.top, Math.max(x(until) - x(from), 2), bbox.height);
  }
  ctx.globalAlpha = 1;
  ctx.lineWidth = 2;
  ctx.strokeStyle = ink("--teal");
  for (const [at] of about.services.filter(([a, b]) => isInside(a, b))) {
    ctx.beginPath();
    ctx.moveTo(x(at), bbox.top);
    ctx.lineTo(x(at), bbox.top + bbox.height);
    ctx.stroke();
  }
  ctx.lineWidth = 1;
  ctx.setLineDash([6, 5]);
  ctx.strokeStyle = ink("--ink-soft");
  for (const limit of [channel.low, channel.high].filter((each) => each !== null)) {
    ctx.beginPath();
    ctx.moveTo(bbox.left, y(limit));
    ctx.lineTo(bbox.left + bbox.width, y(limit));
    ctx.stroke();
  }
  ctx.setLineDash([]);
  gradesOn(chart, x, grades);
  ctx.lineWidth = 2;
  ctx.strokeStyle = ink("--brick");
  for (const [at, value] of odd) {
    const [px, py] = [x(at), Math.min(Math.max(y(value), bbox.top), bbox.top + bbox.height)];
    ctx.beginPath();
    ctx.moveTo(px - 4, py - 4);
    ctx.lineTo(px + 4, py + 4);
    ctx.moveTo(px + 4, py - 4);
    ctx.lineTo(px - 4, py + 4);
    ctx.stroke();
  }
  ctx.restore();
};

const seriesOf = (what, isReported) => {
  const stroke = isReported ? ink("--ink") : ink("--ink-soft");
  const line = {
    stroke,
    width: isReported ? 1.8 : 1,
    dash: isReported ? [] : [5, 4],
    points: { show: false },
  };
  return what.single ? [{ ...line, points: { show: what.t.length < 120, size: 4, stroke } }] : [line, line];
};

const drawnOf = (channel, told, width) => {
  const { recorded, reported } = told;
  const pieces = [
    ...(recorded ? [[recorded, !reported]] : []),
    ...(reported && reported.t.length === recorded.t.length ? [[reported, true]] : []),
  ];
  const data = [recorded.t, ...pieces.flatMap(([p]) => (p.single ? [p.low] : [p.low, p.high]))];
  const bands = [];
  let at = 1;
  for (const [piece, isReported] of pieces) {
    if (!piece.single && isReported) bands.push({ series: [at + 1, at], fill: ink("--water") });
    at += piece.single ? 1 : 2;
  }
  const axis = {
    stroke: ink("--ink"),
    grid: { stroke: ink("--rule"), width: 1 },
    ticks: { stroke: ink("--rule") },
  };
  const options = {
    width,
    height: HEIGHT,
    tzDate: local,
    legend: { show: false },
    cursor: { drag: { x: true, y: false, setScale: false }, y: false },
    scales: { x: { range: () => span } },
    axes: [
      { ...axis, values: (_chart, splits, _axis, _space, step) => splits.map((at) => tickOf(at, step)) },
      { ...axis, size: 56, values: (_chart, splits) => splits.map((value) => plain(value)) },
    ],
    series: [{}, ...pieces.flatMap(([piece, isReported]) => seriesOf(piece, isReported))],
    bands,
    hooks: {
      draw: [marksOf(channel, told.odd, told.grades)],
      setSelect: [
        (chart) => {
          const { left, width: wide } = chart.select;
          if (wide < 4) return;
          const ends = [chart.posToVal(left, "x"), chart.posToVal(left + wide, "x")];
          chart.setSelect({ left: 0, width: 0, top: 0, height: 0 }, false);
          go(ends);
        },
      ],
    },
  };
  return [options, data];
};

const cell = (text, kind = "td", number = false) => {
  const made = document.createElement(kind);
  made.textContent = text;
  if (number) made.className = "num";
  if (kind === "th") made.scope = "row";
  return made;
};

// Few enough values are listed beside the drawing, so that it can be read without one.
const list = (body) => {
  const single = body.channels.every((c) => c.recorded.single);
  const count = body.channels.reduce((n, c) => n + c.recorded.t.length, 0);
  valuesFold.hidden = !single || !count || count > MOST_LISTED;
  if (valuesFold.hidden) return;
  const head = ["Time", "Channel", "Recorded", "Reported"].map((text) => {
    const made = cell(text, "th");
    made.scope = "col";
    return made;
  });
  root.querySelector("[data-values-head]").replaceChildren(...head);
  const rows = body.channels.flatMap((c) => {
    const { title } = about.channels.find((each) => each.quantity === c.quantity);
    return c.recorded.t.flatMap((t, i) => {
      const value = c.recorded.low[i];
      if (value === null) return [];
      const line = document.createElement("tr");
      const reported = c.reported?.low[i];
      line.append(
        cell(words(t), "th"),
        cell(title),
        cell(value.toPrecision(5), "td", true),
        cell(c.reported ? (reported?.toPrecision(5) ?? "–") : "as recorded", "td", true),
      );
      return [line];
    });
  });
  root.querySelector("[data-values-body]").replaceChildren(...rows);
};

const draw = (body) => {
  const width = Math.max(charts.clientWidth, 260);
  charts.replaceChildren(
    ...about.channels.map((channel) => {
      const told = body.channels.find((each) => each.quantity === channel.quantity);
      const place = document.createElement("div");
      place.className = "chart";
      const head = document.createElement("h2");
      head.textContent = channel.unit ? `${channel.title}, ${channel.unit}` : channel.title;
      place.append(head);
      if (told.recorded.t.length) {
        const [options, data] = drawnOf(channel, told, width);
        new uPlot(options, data, place);
      } else place.append("Nothing was recorded in this span.");
      return place;
    }),
  );
  for (const canvas of charts.querySelectorAll("canvas")) canvas.setAttribute("aria-hidden", "true");
  list(body);
};

const load = async () => {
  asked += 1;
  const mine = asked;
  const columns = Math.min(2000, Math.max(200, charts.clientWidth));
  const answer = await fetch(`${about.view}?since=${span[0]}&until=${span[1]}&columns=${columns}`);
  const body = await answer.json().catch(() => null);
  if (mine !== asked) return; // another span was asked for meanwhile
  if (!answer.ok || !body?.channels) {
    shown.textContent = body?.error ?? "The record could not be fetched. Try again.";
    return;
  }
  draw(body);
  shown.textContent = `${words(span[0])} to ${words(span[1])}`;
  const taken = root.querySelector("[data-csv]");
  taken.href = `${taken.href.split("?")[0]}?since=${span[0]}&until=${span[1]}`;
};

const go = ([from, until]) => {
  const least = 4 * about.interval_s;
  const middle = (from + until) / 2;
  span = until - from < least ? [middle - least / 2, middle + least / 2] : [from, until];
  const whole = about.span[1] - about.span[0];
  if (span[1] - span[0] > 1.2 * whole) span = [...about.span];
  return load();
};

const press = (selector, act) => {
  for (const button of root.querySelectorAll(selector)) button.addEventListener("click", () => act(button));
};
press("[data-all]", () => go(about.span));
press("[data-zoom]", (button) => {
  const half = ((span[1] - span[0]) / 2) * Number(button.dataset.zoom);
  const middle = (span[0] + span[1]) / 2;
  return go([middle - half, middle + half]);
});
press("[data-pan]", (button) => {
  const step = (span[1] - span[0]) * Number(button.dataset.pan);
  return go([span[0] + step, span[1] + step]);
});

const marking = document.querySelector("[data-marking]");
const take = marking?.querySelector("[data-take-span]");
if (take) {
  take.hidden = false;
  take.addEventListener("click", () => {
    marking.querySelector("[name=starts]").value = typed(span[0]);
    marking.querySelector("[name=ends]").value = typed(span[1]);
  });
}

let wide = charts.clientWidth;
window.addEventListener("resize", () => {
  if (charts.clientWidth === wide) return;
  wide = charts.clientWidth;
  load();
});
load();
