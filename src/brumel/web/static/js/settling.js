// The live page: listens to server-sent events, shows the judgement made in Python, offers accepting when settled.
import { isOnTheWay, readAfresh } from "./afresh.js";
import { callOut } from "./attention.js";
import { drawStrip } from "./strip.js";

const root = document.querySelector("[data-strip]");
const svg = root.querySelector("[data-strip-svg]");
const options = {
  unit: root.dataset.unit,
  digits: Number(root.dataset.digits),
  window: Number(root.dataset.window),
  band: Number(root.dataset.band),
  relative: Number(root.dataset.relative || 0),
  shortest: Number(root.dataset.shortest),
  source: root.dataset.source,
};
const trace = { t: [], y: [] };
let judged = {};
let lastSeq = -1;

const text = (value, digits, plus = false) => {
  if (value === null || value === undefined) return "–";
  const shown = Math.abs(value).toFixed(digits);
  const sign = value < 0 && Number(shown) !== 0 ? "−" : plus && Number(shown) !== 0 ? "+" : "";
  return sign + shown;
};

const put = (name, words) => {
  for (const element of document.querySelectorAll(`[data-n="${name}"]`)) element.textContent = words;
};

const showNumbers = (n) => {
  const fine = options.digits + 1;
  put("value", text(n.value, options.digits));
  put("temperature", text(n.temperature, 1));
  put("drift", text(n.drift, 2, true));
  put("noise", text(n.noise, fine > 2 ? 3 : 2));
  put("drift_limit", n.drift_limit ? `limit ${n.drift_limit}` : "");
  put("noise_limit", n.noise_limit ? `limit ${n.noise_limit}` : "");
  put("forecast", text(n.forecast, options.digits));
  put("read", n.read === null || n.read === undefined ? "–" : text(n.read, Number(root.dataset.valueDigits)));
  put("to_go", n.to_go !== null ? String(Math.ceil(n.to_go)) : n.most_to_go ? `≤ ${n.most_to_go}` : "–");
  put("signal", text(n.signal, 1));
  if (n.expected !== undefined && n.expected !== null) {
    const cup = document.querySelector("[data-cup]");
    if (cup) {
      cup.querySelector(".d-cup-ph").textContent = n.expected_text;
      cup.querySelector(".d-cup-at").textContent =
        `at ${text(n.temperature, 1)} ${root.dataset.temperatureUnit}`;
    }
  }
  if (n.reported !== undefined && n.reported !== null) {
    // The digits of a value follow its uncertainty, as everywhere.
    const known = n.expanded ? ` ± ${n.expanded.toFixed(n.u_digits)}` : "";
    put("reported", text(n.reported, n.expanded ? n.u_digits : options.digits) + known);
  }
};

// A hand that presses as a reading that was settled begins to move again meant what it had seen: for a moment the
// press still counts, and for that sample.
const MEANT_MS = 1000;
let settledSeq = null;
let settledAt = -Infinity;

const isMeant = (n) => n.settled || performance.now() - settledAt < MEANT_MS;

const remember = (n) => {
  if (n.settled) [settledSeq, settledAt] = [n.seq, performance.now()];
  if (isOnTheWay()) return; // what is being sent is not changed behind the hand that sent it
  const seen = isMeant(n) ? (settledSeq ?? n.seq) : n.seq;
  for (const field of document.querySelectorAll("[data-seen]")) field.value = seen;
};

const showState = (n) => {
  const state = root.querySelector("[data-state]");
  const sentence = root.querySelector("[data-sentence]");
  root.querySelector("[data-state-mark]").className = `state-mark state-${n.state}`;
  if (state.textContent !== n.state) state.textContent = n.state;
  sentence.textContent = n.problem ?? n.sentence;
  const main = document.querySelector("[data-main]");
  if (!main) return;
  main.dataset.words ??= main.textContent.trim();
  const wait = n.state === "waiting" || n.state === "settling";
  const told = n.to_go ? `about ${Math.ceil(n.to_go)}` : n.most_to_go ? `up to ${n.most_to_go}` : "";
  const seconds = told && `, ${told} s to go`;
  main.setAttribute("aria-disabled", String(!isMeant(n)));
  main.textContent = isMeant(n)
    ? main.dataset.words
    : wait
      ? `Settling${seconds}`
      : `Not settled: ${n.state}`;
};

// What is asked follows the readings: a question that has answered itself goes, a new one comes, in every line.
// Only a new question is read aloud; moving figures in a standing one are not.
let spoken = null;
const speak = (suspicions) => {
  const place = document.querySelector("[data-speak]");
  if (!place) return;
  const codes = suspicions.map((s) => s.code).join();
  place.setAttribute("aria-live", codes === spoken ? "off" : "assertive");
  spoken = codes;
  place.replaceChildren(
    ...suspicions.map((s) => {
      const line = document.createElement("p");
      line.className = "suspicion";
      const mark = document.getElementById("care-mark").content.cloneNode(true);
      const words = document.createElement("span");
      const what = document.createElement("b");
      what.textContent = s.sentence;
      words.append(what, ` ${s.remedy}`);
      line.append(mark, words);
      return line;
    }),
  );
  const answer = document.querySelector("[data-answer]");
  if (answer) answer.hidden = suspicions.every((s) => !s.remedy);
};

// While the probe seems to stand in another cup, the main button puts it right; accepting steps back.
const showWrongCup = (step) => {
  for (const place of document.querySelectorAll("[data-wrong-cup]"))
    place.hidden = place.dataset.wrongCup !== step;
  const isWrong = Boolean(document.querySelector("[data-wrong-cup]:not([hidden])"));
  const main = document.querySelector("[data-main]");
  main?.classList.toggle("act", !isWrong);
  main?.classList.toggle("act-quiet", isWrong);
};

// Evidence that is rendered by the server (the ladder) is taken anew once the reading has settled, then now and then.
let refreshed = 0;
const refresh = async () => {
  const places = document.querySelectorAll("[data-refresh]");
  if (!places.length || isOnTheWay() || Date.now() - refreshed < 8000) return;
  refreshed = Date.now();
  const answer = await fetch(window.location.href, { headers: { Accept: "text/html" } });
  if (!answer.ok) return;
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  for (const place of places) {
    const news = page.querySelector(`[data-refresh="${place.dataset.refresh}"]`);
    if (news) place.replaceChildren(...news.childNodes);
  }
};

// A relative band follows the reading it is a share of.
const draw = () => {
  const middle = Math.abs(judged.value ?? trace.y.at(-1) ?? 0);
  const band = options.relative ? Math.max((options.relative / 100) * middle, 0.01) : options.band;
  drawStrip(svg, trace, judged, { ...options, band });
};

if (root.dataset.trace) {
  const known = JSON.parse(root.dataset.trace);
  trace.t.push(...known.t);
  trace.y.push(...known.y);
  judged = known.judged ?? {};
}
draw();

document.addEventListener("click", (event) => {
  if (event.target.closest?.('[aria-disabled="true"]')) event.preventDefault();
});

const link = document.querySelector("[data-link]");
if (root.dataset.stream) {
  const source = new EventSource(root.dataset.stream);
  source.addEventListener("open", () => {
    // The stream starts from the first sample, so a broken line leaves no gap and doubles nothing.
    trace.t.length = 0;
    trace.y.length = 0;
    lastSeq = -1;
    if (link) link.hidden = true;
  });
  source.addEventListener("error", () => {
    if (link) link.hidden = false;
  });
  source.addEventListener("reading", (event) => {
    const n = JSON.parse(event.data);
    // An event without samples tells that none came.
    if (n.seq <= lastSeq && n.t.length) return;
    lastSeq = Math.max(lastSeq, n.seq);
    trace.t.push(...n.t);
    trace.y.push(...n.y);
    // Called out once, as it settles before the eyes of nobody; not for what was settled when the page opened.
    if (n.settled && judged.state && !judged.settled) callOut();
    judged = n;
    root.dispatchEvent(new CustomEvent("brumel:reading", { detail: n, bubbles: true }));
    remember(n);
    if (n.state) {
      showNumbers(n);
      showState(n);
    }
    if (n.suspicions) speak(n.suspicions);
    if (n.stands_in !== undefined) showWrongCup(n.stands_in);
    draw();
    if (n.settled) refresh();
  });
  source.addEventListener("moved", () => {
    source.close();
    readAfresh();
  });
}
