// The field page: a site's visit is built up without a signal, depth by depth, judged by the bands that came along, and put
// into the queue as one thing. The site changes only when the technician says so; what was typed stays with its site.
import { clear, fieldsOf, fill, isBlank, load, save } from "./field/draft.js";
import { beyond, oddities, oxygenOddities, read } from "./field/judging.js";
import { mind } from "./field/page.js";
import { MOST, shrink } from "./field/photos.js";
import { add, draw, runsWaiting, send } from "./field/queue.js";
import { isStored } from "./kept.js";
import { answersIn, keepTo, recall } from "./questions.js";

const root = document.querySelector("[data-field]");
const body = JSON.parse(root.dataset.field);
const form = document.querySelector("[data-sheet]");
const judged = document.querySelector("[data-judged]");
const questions = document.querySelector("[data-questions]");
const setsList = document.querySelector("[data-sets]");
const onward = document.querySelector("[data-onward]");
const photoWords = document.querySelector("[data-photo-words]");

const EMPTY = { sets: [], fields: {}, photos: [] };

let draft = EMPTY; // what is kept of the site that is shown, as far as it has come in
let siteShown = form.elements.site.value;
let isReady = false;
let unjudged = new Set(); // the probes whose calibration waits in this phone

// What is kept is read and written one act after another, in the order of the presses. A press takes what is on the page at
// once, so that whoever types on, or goes to another site, while the phone still writes cannot get in its way.
let turns = Promise.resolve();
const inTurn = (act) => {
  turns = turns.then(act, act);
  return turns;
};
let queueing = 0; // visits on their way into the queue

const site = () => body.sites.find((s) => s.id === siteShown);

const speak = (sentences) =>
  judged.replaceChildren(
    ...sentences.map((words) => {
      const line = document.createElement("p");
      line.className = "suspicion";
      line.textContent = words;
      return line;
    }),
  );

const wordsOf = (set) => {
  const at = new Date(set.at).toLocaleTimeString([], {
    hour: "2-digit",
    minute: "2-digit",
    hourCycle: "h23",
  });
  const values = set.rows.map((row) => {
    const probe = body.probes.find((p) => p.id === row.probe);
    return `${probe?.words ?? "a probe"} ${row.value}`;
  });
  return `${set.depth_m === null ? "" : `${set.depth_m} m, `}${at}: ${values.join(", ")}`;
};

const drawDraft = () => {
  setsList.replaceChildren(
    ...draft.sets.map((set, number) => {
      const item = document.createElement("li");
      const words = document.createElement("span");
      words.textContent = wordsOf(set);
      const out = document.createElement("button");
      out.type = "button";
      out.className = "act-quiet";
      out.textContent = "Take out";
      out.addEventListener("click", () => keepDraft((kept) => kept.sets.splice(number, 1)));
      item.append(words, out);
      return item;
    }),
  );
  setsList.hidden = !draft.sets.length;
  const photos = draft.photos.length;
  photoWords.textContent = photos ? `${photos} of ${MOST} kept with this visit.` : "";
};

// Changes what is kept of a site. Whether the phone took it.
const changeKept = async (place, change) => {
  const kept = await load(body.outing, place);
  change(kept);
  const isKept = await isStored(() => save(body.outing, place, kept), speak);
  const now = isKept ? kept : await load(body.outing, place);
  if (place !== siteShown) return isKept;
  draft = now;
  drawDraft();
  return isKept;
};
const keep = (place, change) => inTurn(() => changeKept(place, change));

// The same for the site that is shown, with what stands in its form now.
const keepDraft = (change = () => {}) => {
  const fields = fieldsOf(form);
  return keep(siteShown, (kept) => {
    kept.fields = fields;
    change(kept);
  });
};

// The form is emptied at once, units apart; what was kept of the site comes in behind, over nothing that is typed by then.
const showSite = () => {
  const units = [...form.querySelectorAll("select[name^=unit_]")].map((select) => [
    select.name,
    select.value,
  ]);
  draft = EMPTY;
  form.reset();
  form.elements.site.value = siteShown;
  fill(form, Object.fromEntries(units));
  document.querySelector("[data-note]").textContent = site().note;
  onward.hidden = true;
  speak([]);
  keepTo(questions, []);
  isReady = false;
  const shown = siteShown;
  inTurn(() => bringIn(shown));
};

const bringIn = async (shown) => {
  const kept = await load(body.outing, shown);
  unjudged = new Set((await runsWaiting()).map((item) => item.run.probe));
  if (shown !== siteShown) return;
  draft = kept;
  isReady = true;
  if (isBlank(form)) {
    fill(form, draft.fields);
    recall(draft.fields);
    ask();
  }
  for (const select of form.querySelectorAll("select[name^=unit_]")) sayBacking(select);
  drawDraft();
};

// A way of typing that no calibration stands behind is said beside its unit, not discovered on sending.
const sayBacking = (select) => {
  const probe = body.probes.find((p) => `unit_${p.id}` === select.name);
  const entry = probe.entries.find((e) => e.key === select.value);
  const others = probe.entries.filter((e) => e.backed).map((e) => e.label);
  const line = document.querySelector(`[data-backing="${probe.id}"]`);
  line.textContent = unjudged.has(probe.id)
    ? "Its calibration waits in this phone: not yet judged. The reading is sent after it."
    : entry.backed
      ? ""
      : `No valid calibration stands behind this.${others.length ? ` It was made in ${others[0]}: type that.` : ""}`;
};

// The values of the next depth come from nowhere; units stay, and the depth goes on to the site's next one.
const nextSet = () => {
  const stays = (e) => !e.name || /^(site|unit_.*|note)$/.test(e.name) || e.type === "file";
  for (const e of form.elements) if (!stays(e)) e.value = "";
  keepTo(questions, []);
  speak([]);
  const done = new Set(draft.sets.map((each) => each.depth_m));
  const next = site().depths.find((depth) => !done.has(depth));
  form.elements.depth_m.value = next ?? "";
};

// What is odd about the values as they stand in the form; it is asked while one can still repeat.
const ask = () => {
  const { rows, at, depth } = read(form, body.probes, body.bounds);
  const oxygen = rows.filter((row) => body.probes.find((p) => p.id === row.probe).quantity === "oxygen");
  const odd = [
    ...oddities(rows, depth, body.probes, site(), at, body.together),
    ...oxygen.flatMap((row) => oxygenOddities(row, at, site().oxygen, body.together)),
  ];
  keepTo(questions, odd);
  speak(beyond(rows, body.probes, site()));
  return odd;
};

// The form as a set of the visit; nothing where it cannot be or waits for a reason.
const takeSet = () => {
  const { rows, faults, at, depth } = read(form, body.probes, body.bounds);
  if (faults.length) {
    speak(faults);
    return null;
  }
  const odd = ask();
  const answers = answersIn(questions);
  const unanswered = odd.find((q) => !answers[q.code]);
  if (unanswered) {
    questions.querySelector(`[data-question="${unanswered.code}"] input`).focus();
    return null;
  }
  return { at: new Date().toISOString(), temperature_c: at, depth_m: depth, rows, answers };
};

// What the phone could not keep goes back into the form, unless something else is typed there by then.
const giveBack = (place, fields) => {
  if (place === siteShown && isBlank(form)) fill(form, fields);
};

document.querySelector("[data-more]").addEventListener("click", async () => {
  const [place, fields] = [siteShown, fieldsOf(form)];
  const set = takeSet();
  if (!set) return;
  draft = { ...draft, sets: [...draft.sets, set] };
  nextSet();
  form.elements.temperature_c.focus();
  if (!(await keepDraft((kept) => kept.sets.push(set)))) giveBack(place, fields);
});

form.addEventListener("submit", (event) => {
  event.preventDefault();
  if (isBlank(form) && queueing) return; // a press given twice makes no second visit
  const [place, fields] = [siteShown, fieldsOf(form)];
  const isOfEarlier = isBlank(form) && draft.sets.length > 0; // all depths are kept already
  const set = isOfEarlier ? null : takeSet();
  if (!set && !isOfEarlier) return;
  const before = { draft, fields, isReady };
  draft = EMPTY;
  nextSet();
  form.elements.note.value = "";
  form.elements.depth_m.value = "";
  queueing += 1;
  inTurn(() => queueVisit(place, set, before)).finally(() => {
    queueing -= 1;
  });
});

const queueVisit = async (place, set, before) => {
  const kept = await load(body.outing, place);
  const visit = {
    key: crypto.randomUUID(),
    site: place,
    sets: set ? [...kept.sets, set] : kept.sets,
    note: before.fields.note || (before.isReady ? "" : kept.fields.note) || "",
    photos: kept.photos,
  };
  if (!visit.sets.length) return;
  if (!(await isStored(() => add(visit), speak))) {
    if (place === siteShown) draft = before.draft;
    giveBack(place, before.fields);
    return;
  }
  await clear(body.outing, place);
  await draw();
  send(); // the page does not wait for the answer
  if (place !== siteShown) return;
  drawDraft();
  const next = body.sites[body.sites.findIndex((s) => s.id === place) + 1];
  onward.hidden = !next;
  if (!next) return;
  onward.querySelector("button").textContent = `Next site: ${next.name}`;
  if (isBlank(form)) onward.querySelector("button").focus();
};

onward.querySelector("button").addEventListener("click", () => {
  form.elements.site.selectedIndex += 1;
  form.elements.site.dispatchEvent(new Event("change"));
  form.elements.temperature_c.focus();
});

form.elements.site.addEventListener("change", () => {
  const [left, fields] = [siteShown, fieldsOf(form)];
  const isWorthKeeping = draft.sets.length || draft.photos.length || fields.note || !isBlank(form);
  siteShown = form.elements.site.value;
  if (isWorthKeeping)
    keep(left, (kept) => {
      kept.fields = fields;
    });
  showSite();
});
form.addEventListener("change", (event) => {
  if (event.target.name?.startsWith("unit_")) sayBacking(event.target);
  if (event.target.name !== "site" && event.target.type !== "file") keepDraft();
});
// Asked as one goes on to the next field, not on the way to a button: what comes in would push that from under the finger.
form.addEventListener("focusout", (event) => {
  const isValue = /^(value_|unit_|temperature_c$|depth_m$)/.test(event.target.name ?? "");
  if (isValue && event.relatedTarget?.matches("input, select, textarea")) ask();
});
const takePhotos = async (place, files) => {
  const photos = [];
  for (const file of files) {
    try {
      photos.push(await shrink(file));
    } catch {
      speak([`${file.name} is no picture this phone can read.`]);
    }
  }
  await changeKept(place, (kept) => kept.photos.push(...photos.slice(0, MOST - kept.photos.length)));
};

form.elements.photo.addEventListener("change", (event) => {
  const [place, files] = [siteShown, [...event.target.files].slice(0, MOST)];
  event.target.value = "";
  inTurn(() => takePhotos(place, files));
});
showSite();
mind();
