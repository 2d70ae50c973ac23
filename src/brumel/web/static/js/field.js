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

let draft = { sets: [], fields: {}, photos: [] };
let siteShown = form.elements.site.value;
let ready = Promise.resolve();
let isReady = false;
let unjudged = new Set(); // the probes whose calibration waits in this phone

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
      const line = document.createElement("li");
      const words = document.createElement("span");
      words.textContent = wordsOf(set);
      const out = document.createElement("button");
      out.type = "button";
      out.className = "act-quiet";
      out.textContent = "Take out";
      out.addEventListener("click", async () => {
        draft.sets.splice(number, 1);
        await keepDraft();
        drawDraft();
      });
      line.append(words, out);
      return line;
    }),
  );
  setsList.hidden = !draft.sets.length;
  const photos = draft.photos.length;
  photoWords.textContent = photos ? `${photos} of ${MOST} kept with this visit.` : "";
};

const keepDraft = async () => {
  await ready; // nothing is kept over what was kept before
  draft.fields = fieldsOf(form);
  return isStored(() => save(body.outing, siteShown, draft), speak);
};

// The form is emptied at once, units apart; what was kept of the site comes in behind, over nothing that is typed by then.
const showSite = () => {
  const units = [...form.querySelectorAll("select[name^=unit_]")].map((select) => [
    select.name,
    select.value,
  ]);
  draft = { sets: [], fields: {}, photos: [] };
  form.reset();
  form.elements.site.value = siteShown;
  fill(form, Object.fromEntries(units));
  document.querySelector("[data-note]").textContent = site().note;
  onward.hidden = true;
  speak([]);
  keepTo(questions, []);
  isReady = false;
  ready = bringIn(siteShown);
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
  const done = new Set(draft.sets.map((set) => set.depth_m));
  const next = site().depths.find((depth) => !done.has(depth));
  form.elements.depth_m.value = next ?? "";
};

// What is odd about the values as they stand in the form; it is asked while one can still repeat.
const ask = () => {
  const { rows, at, depth } = read(form, body.probes, body.bounds);
  const oxygen = rows.filter((row) => body.probes.find((p) => p.id === row.probe).quantity === "oxygen");
  const odd = [
    ...oddities(rows, depth, body.probes, site()),
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

const keepSet = async () => {
  await ready; // what was kept of this site comes first
  const set = takeSet();
  if (!set) return false;
  draft.sets.push(set);
  if (!(await keepDraft())) {
    draft.sets.pop();
    return false;
  }
  nextSet();
  keepTo(questions, []);
  await keepDraft();
  speak([]);
  drawDraft();
  return true;
};

document.querySelector("[data-more]").addEventListener("click", async () => {
  if (await keepSet()) form.elements.temperature_c.focus();
});

let isBusy = false; // a press given twice makes no second visit
form.addEventListener("submit", async (event) => {
  event.preventDefault();
  if (isBusy) return;
  isBusy = true;
  try {
    await queueVisit();
  } finally {
    isBusy = false;
  }
});

const queueVisit = async () => {
  await ready;
  if ((!isBlank(form) || !draft.sets.length) && !(await keepSet())) return;
  const { sets, photos } = draft;
  const visit = { key: crypto.randomUUID(), site: siteShown, sets, note: form.elements.note.value, photos };
  if (!(await isStored(() => add(visit), speak))) return;
  await clear(body.outing, siteShown);
  draft = { sets: [], fields: {}, photos: [] };
  form.elements.note.value = "";
  form.elements.depth_m.value = "";
  drawDraft();
  await draw();
  const next = body.sites[body.sites.findIndex((s) => s.id === siteShown) + 1];
  onward.hidden = !next;
  if (next) {
    onward.querySelector("button").textContent = `Next site: ${next.name}`;
    onward.querySelector("button").focus();
  }
  send(); // the page does not wait for the answer
};

onward.querySelector("button").addEventListener("click", () => {
  form.elements.site.selectedIndex += 1;
  form.elements.site.dispatchEvent(new Event("change"));
  form.elements.temperature_c.focus();
});

form.elements.site.addEventListener("change", () => {
  const left = { site: siteShown, draft: { ...draft, fields: fieldsOf(form) } };
  const isWorthKeeping = draft.sets.length || draft.photos.length || !isBlank(form);
  siteShown = form.elements.site.value;
  if (isWorthKeeping && isReady) save(body.outing, left.site, left.draft);
  else if (isWorthKeeping)
    load(body.outing, left.site).then((kept) =>
      save(body.outing, left.site, { ...kept, fields: left.draft.fields }),
    );
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
form.elements.photo.addEventListener("change", async (event) => {
  await ready;
  for (const file of [...event.target.files].slice(0, MOST - draft.photos.length)) {
    try {
      draft.photos.push(await shrink(file));
    } catch {
      speak([`${file.name} is no picture this phone can read.`]);
    }
  }
  event.target.value = "";
  await keepDraft();
  drawDraft();
});
showSite();
mind();
