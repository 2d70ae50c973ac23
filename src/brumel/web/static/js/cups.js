// Cups without a signal: a typed calibration or closing check, cup by cup with its true times, asked about on the spot and
// put into the queue as one thing. A run in the making is kept, for each probe, through a closed browser.
import { at, objections, shouldShow } from "./cups/rules.js";
import { mind } from "./field/page.js";
import { addRun, draw, runsWaiting, send } from "./field/queue.js";
import { database, isStored } from "./kept.js";
import { answersIn, keepTo } from "./questions.js";

const body = JSON.parse(document.querySelector("[data-field]").dataset.field);
const find = (name) => document.querySelector(`[data-${name}]`);
const [probeSelect, begin, cupForm, finish] = ["probe", "begin", "cup", "finish"].map(find);
const questions = find("questions");

let plan = body.probes[0];
let run = null; // the run in the making: {purpose, cups, started_at, read, current, ...}

const place = () => `${body.outing}/run/${plan.probe}`;
const tellFull = (words) => say(find("net-words"), words);
const keepRun = () =>
  isStored(async () => (await database()).put("drafts", { place: place(), run }), tellFull);
const forget = async () => (await database()).delete("drafts", place());

const now = () => new Date().toISOString();
const numeral = (text) => Number(text.trim().replace("−", "-").replace(",", "."));
const isTwoWays = (text) => /^\d{1,3},\d{3}$/.test(text.trim());

const say = (element, sentences) =>
  element.replaceChildren(
    ...sentences.map((words) => {
      const line = document.createElement("p");
      line.className = "suspicion";
      line.textContent = words;
      return line;
    }),
  );

const option = (value, words) =>
  Object.assign(document.createElement("option"), { value, textContent: words });

// What a run was begun with may be gone from a page that was kept anew meanwhile; the run goes on, and is asked about less.
const GONE = { name: "what it was begun in", expected: [], nominal: null, vessel: "solution" };

// The cups of a run: of a calibration by its method, of a closing check as they were chosen.
const cupsOf = ({ purpose, cups }) =>
  Object.entries(cups).map(([step, value]) => {
    const planned = plan.cups.find((cup) => cup.step === step);
    const choices = purpose === "closing" ? plan.closing : (planned?.choices ?? []);
    const choice = choices.find((each) => each.value === value) ?? GONE;
    return { step, hint: planned?.hint ?? "", ...choice, isSolution: choice.vessel === "solution" };
  });

// -- before it begins

const purposeNow = () => new FormData(begin).get("purpose");

const drawChoices = () => {
  const isClosing = purposeNow() === "closing";
  const rows = isClosing
    ? [
        { step: "closing-1", title: "Closed in", choices: plan.closing },
        {
          step: "closing-2",
          title: "and in (optional)",
          choices: [{ value: "", name: "no second one" }, ...plan.closing],
        },
      ]
    : plan.cups;
  find("cups").replaceChildren(
    ...rows.map(({ step, title, choices }) => {
      const label = document.createElement("label");
      label.className = "text";
      const words = document.createElement("span");
      words.textContent = title;
      const select = document.createElement("select");
      select.name = `cup-${step}`;
      select.append(
        ...choices.map((each) =>
          option(each.value, each.objections?.length ? `${each.name}: ${each.objections[0]}` : each.name),
        ),
      );
      label.append(words, select);
      return label;
    }),
  );
  const isPossible = isClosing ? plan.closing.length : !plan.without;
  begin.querySelector("button").hidden = !isPossible;
  find("without").textContent = isPossible
    ? ""
    : plan.without || "It has no calibration whose span could be closed.";
  find("pressure").hidden = isClosing || !plan.needs_pressure;
  find("settings").hidden = isClosing || !plan.settings;
  find("settings-at").textContent = plan.settings ? `on record, ${plan.settings}` : "";
};

const started = () => {
  const data = new FormData(begin);
  const cups = Object.fromEntries(
    [...data]
      .filter(([name, value]) => name.startsWith("cup-") && (value || purposeNow() !== "closing"))
      .map(([name, value]) => [name.slice(4), value]),
  );
  const pressure = data.get("pressure_hpa")?.trim();
  const faults = [];
  if (!find("settings").hidden && !data.get("settings_same"))
    faults.push("Look at the meter's settings first, and tick that they are as on record.");
  if (!find("pressure").hidden && pressure && !(numeral(pressure) >= 500 && numeral(pressure) <= 1100))
    faults.push("Station pressure is not a number from 500 to 1100 hPa.");
  if (cups["closing-2"] && cups["closing-1"] === cups["closing-2"])
    faults.push("Choose two different standards, or one.");
  say(find("begin-words"), faults);
  if (faults.length) return null;
  return {
    purpose: purposeNow(),
    method: plan.method,
    title: plan.title,
    cups,
    settings_same: Boolean(data.get("settings_same")),
    pressure_hpa: !find("pressure").hidden && pressure ? numeral(pressure) : null,
    started_at: now(),
    read: [],
    current: null,
  };
};

// -- in a cup

// A closing check is typed as the calibration it closes was made, one that waits in this phone before one on record.
const offerWays = async () => {
  const waiting = (await runsWaiting()).filter(
    (item) => item.run.probe === plan.probe && item.run.purpose !== "closing",
  );
  const before = waiting.at(-1)?.run.read[0].shown[0].unit ?? plan.closing_way;
  const first = run.read.at(-1)?.shown.at(-1).unit ?? (run.purpose === "closing" ? before : plan.way);
  const ways = plan.ways.toSorted((a, b) => (b.key === first) - (a.key === first));
  cupForm.elements.unit.replaceChildren(...ways.map((way) => option(way.key, way.label)));
};

const here = () => cupsOf(run)[run.read.length];
const isThermometer = () => plan.quantity === "temperature";
const wayNow = () => plan.ways.find((way) => way.key === cupForm.elements.unit.value);

const drawShown = () => {
  const shown = run.current?.shown ?? [];
  find("shown").hidden = !shown.length;
  find("shown").replaceChildren(
    ...shown.map((each) => {
      const line = document.createElement("li");
      const way = plan.ways.find((one) => one.key === each.unit);
      line.textContent = `${each.value} ${way.label.split(",")[0]} at ${each.temperature_c} °C, after ${Math.round(each.after_s)} s`;
      return line;
    }),
  );
};

const tell = () => {
  const way = wayNow();
  const c = numeral(cupForm.elements.temperature_c.value);
  const expected = at(body.grid_c, here().expected, c);
  const shown = shouldShow(body.grid_c, way, expected, c);
  find("should").textContent =
    shown === null || !Number.isFinite(c)
      ? ""
      : `At ${c} °C it should show about ${shown.toFixed(way.digits).replace("-", "−")} ${way.label.split(",")[0]}.`;
};

const drawCup = () => {
  const cups = cupsOf(run);
  const isIn = Boolean(run.current);
  find("turn").textContent =
    `Cup ${run.read.length + 1} of ${cups.length} · ${run.purpose === "closing" ? "closing check" : run.title}`;
  find("cup-name").textContent = here().name;
  find("hint").textContent = here().hint;
  find("in").hidden = isIn;
  find("add").hidden = !isIn;
  find("take").hidden = !isIn;
  find("afresh").hidden = !isIn;
  for (const row of cupForm.querySelectorAll(".typed-row, [data-temperature]")) row.hidden = !isIn;
  find("temperature").hidden ||= isThermometer();
  find("beside").hidden = !isIn || here().vessel !== "reference";
  cupForm.elements.reference.value = "";
  cupForm.elements.reference_u.value = isThermometer() ? "0.1" : "";
  keepTo(questions, []);
  say(find("cup-words"), []);
  drawShown();
  tell();
};

const typed = () => {
  const { value, temperature_c: temperature } = cupForm.elements;
  const way = wayNow();
  const shown = numeral(value.value);
  const own = way.key === "f" ? ((shown - 32) * 5) / 9 : shown; // a thermometer shows the cup's temperature itself
  const c = isThermometer() ? own : numeral(temperature.value);
  const faults = [];
  if (!value.value.trim()) faults.push("Type what the display shows.");
  else if (isTwoWays(value.value))
    faults.push(`“${value.value}” can be read in two ways; write it with a point, or without the comma.`);
  else if (!Number.isFinite(shown)) faults.push(`“${value.value}” is not a number.`);
  else if (!(shown >= way.low && shown <= way.high))
    faults.push(`${shown} ${way.label} lies outside ${way.low} to ${way.high}.`);
  const [low, high] = body.bounds.temperature_c;
  if (!isThermometer() && (!temperature.value.trim() || !(c >= low && c <= high)))
    faults.push(`Temperature of the cup is not a number from ${low} to ${high}.`.replace("-", "−"));
  say(find("cup-words"), faults);
  const after = (Date.now() - Date.parse(run.current.at)) / 1000;
  return faults.length
    ? null
    : { value: shown, unit: way.key, temperature_c: c, after_s: Math.round(after * 10) / 10 };
};

// What speaks against the cup by its last reading: one question a cup, with one reason.
const ask = () => {
  const last = run.current.shown.at(-1);
  const cups = cupsOf(run);
  const cup = here();
  const found = objections(plan, body.grid_c, body.slips, {
    way: plan.ways.find((way) => way.key === last.unit),
    shown: last.value,
    c: last.temperature_c,
    cup,
    tray: cups.filter((other) => other !== cup && other.isSolution && other.value !== cup.value),
    before: run.read.map((each) => each.shown.at(-1).temperature_c),
  });
  const question = { code: `cup:${cup.step}`, sentence: found.map((each) => each.sentence).join(" ") };
  keepTo(questions, found.length ? [question] : []);
};

// What the instrument beside the probe showed; empty where the cup asks for none, null where it is no number.
const referenceShown = () => {
  if (here().vessel !== "reference") return {};
  const { reference, reference_u: doubt } = cupForm.elements;
  const [value, u] = [numeral(reference.value), numeral(doubt.value)];
  const isGiven = doubt.value.trim() !== "";
  const isRight =
    reference.value.trim() && Number.isFinite(value) && (!isGiven || u > 0) && (isGiven || !isThermometer());
  say(find("cup-words"), isRight ? [] : ["Type what the reference showed, and its uncertainty, as numbers."]);
  return isRight ? { reference: value, reference_u: isGiven ? u : null } : null;
};

const take = async () => {
  const isEmpty = !cupForm.elements.value.value.trim();
  if ((!isEmpty || !run.current.shown.length) && !(await add())) return;
  const answer = answersIn(questions)[`cup:${here().step}`] ?? "";
  const asked = questions.querySelector("input");
  if (asked && !answer) {
    asked.focus();
    return;
  }
  const beside = referenceShown();
  if (!beside) return;
  run.read.push({ step: here().step, ...run.current, taken_at: now(), answer, ...beside });
  run.current = null;
  await keepRun();
  show();
};

const add = async () => {
  const reading = typed();
  if (!reading) return false;
  run.current.shown.push(reading);
  cupForm.elements.value.value = "";
  await keepRun();
  drawShown();
  ask();
  if (!questions.children.length) cupForm.elements.value.focus();
  return true;
};

setInterval(() => {
  if (!run?.current) {
    find("clock").textContent = "";
    return;
  }
  const seconds = Math.floor((Date.now() - Date.parse(run.current.at)) / 1000);
  const last = run.current.shown.at(-1)?.after_s ?? 0;
  const next = run.current.shown.length ? last + plan.spacing_s : plan.shortest_s;
  const words = seconds < next ? `the next value counts from ${Math.ceil(next)} s` : "type the next reading";
  find("clock").textContent =
    `${seconds} s in the cup; ${run.current.shown.length >= plan.readings ? "take it once it stands still" : words}`;
}, 500);

// -- the whole

const drawFinish = () => {
  const cups = cupsOf(run);
  find("read").replaceChildren(
    ...run.read.map((each, i) => {
      const line = document.createElement("li");
      const last = each.shown.at(-1);
      line.textContent = `${cups[i].name}: ${last.value} at ${last.temperature_c} °C${each.answer ? `; ${each.answer}` : ""}`;
      return line;
    }),
  );
  find("use").hidden = run.purpose === "closing";
  find("then").textContent =
    run.purpose === "closing"
      ? "What it does to the readings of its span is worked out on sending, and decided by the lead."
      : "Verdict and uncertainty are worked out on sending. Where it is short of fit for use, you are asked then.";
};

function show() {
  const isDone = run && run.read.length === Object.keys(run.cups).length;
  begin.hidden = Boolean(run);
  cupForm.hidden = !run || isDone;
  finish.hidden = !isDone;
  if (!run) drawChoices();
  else if (isDone) drawFinish();
  else {
    drawCup();
    (run.current ? cupForm.elements.value : find("in")).focus();
  }
}

// Nothing can be pressed until what was kept of this probe is here.
let chosen = 0;
const choose = async () => {
  chosen += 1;
  const turn = chosen;
  for (const form of [begin, cupForm, finish]) form.hidden = true;
  plan = body.probes.find((each) => each.probe === probeSelect.value);
  const kept = (await (await database()).get("drafts", place()))?.run ?? null;
  if (turn !== chosen) return;
  run = kept;
  find("method").textContent = plan.title ? `by ${plan.title}` : "";
  begin.elements.purpose.value = plan.without ? "closing" : "calibration";
  if (run) await offerWays();
  cupForm.elements.temperature_c.value = "";
  say(find("begin-words"), []);
  show();
};

// One press at a time: a second one that comes while the first is at work does nothing.
let isBusy = false;
const alone = (act) => async (event) => {
  event.preventDefault();
  if (isBusy) return;
  isBusy = true;
  probeSelect.disabled = true;
  try {
    await act();
  } finally {
    isBusy = false;
    probeSelect.disabled = false;
  }
};

const beginRun = async () => {
  const fresh = started();
  if (!fresh) return;
  run = fresh;
  await offerWays();
  await keepRun();
  show();
};

const dip = async () => {
  run.current = { at: now(), shown: [] };
  await keepRun();
  show();
};

const giveUp = async () => {
  if (!window.confirm("Give this run up? It was never sent.")) return;
  run = null;
  await forget();
  show();
};

const queueRun = async () => {
  if (!run) return; // pressed twice
  const { purpose, method, cups, started_at, read, settings_same, pressure_hpa } = run;
  const words = `${purpose === "closing" ? "Closing check" : "Calibration"} of ${plan.name}`;
  const queued = {
    key: crypto.randomUUID(),
    purpose,
    probe: plan.probe,
    method: purpose === "closing" ? "" : method,
    started_at,
    finished_at: now(),
    cups,
    read,
    settings_same,
    pressure_hpa,
    altitude_m: plan.needs_pressure && purpose !== "closing" ? body.altitude_m : null,
    use: finish.elements.use.checked,
  };
  if (!(await isStored(() => addRun(queued, words), tellFull))) return;
  run = null;
  await forget();
  show();
  await draw();
  send(); // the page does not wait for the answer
};

probeSelect.addEventListener("change", choose);
begin.addEventListener("change", (event) => event.target.name === "purpose" && drawChoices());
begin.addEventListener("submit", alone(beginRun));
cupForm.addEventListener(
  "submit",
  alone(() => (run.current ? add() : dip())),
);
cupForm.addEventListener("change", () => run && tell());
find("take").addEventListener("click", alone(take));
find("afresh").addEventListener("click", alone(dip));
for (const button of document.querySelectorAll("[data-give-up]"))
  button.addEventListener("click", alone(giveUp));
finish.addEventListener("submit", alone(queueRun));

if (body.probes.length) choose();
else say(find("net-words"), ["No probe is carried on this round."]);
mind();
