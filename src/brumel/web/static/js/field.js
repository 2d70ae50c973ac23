// The field page: a site's visit is built up without a signal, depth by depth, judged by the bands that came along, and put
// into the queue as one thing. The site changes only when the technician says so; what was typed stays with its site.
import { clear, fieldsOf, fill, isBlank, load, save } from "./field/draft.js";
import { oddities, read } from "./field/judging.js";
import { MOST, shrink } from "./field/photos.js";
import { add, asFile, draw, fromFile, send } from "./field/queue.js";

const root = document.querySelector("[data-field]");
const body = JSON.parse(root.dataset.field);
const form = document.querySelector("[data-sheet]");
const net = document.querySelector("[data-net]");
const judged = document.querySelector("[data-judged]");
const setsList = document.querySelector("[data-sets]");
const onward = document.querySelector("[data-onward]");
const photoWords = document.querySelector("[data-photo-words]");

let draft = { sets: [], fields: {}, photos: [] };
let siteShown = form.elements.site.value;
let ready = Promise.resolve();
let isReady = false;

let isKept = false;
const sayNet = async () => {
  const line = navigator.onLine ? "There is a signal." : "No signal.";
  const lasts = (await navigator.storage?.persisted?.())
    ? ""
    : " The browser may clear it when the phone is full; save what waits as a file.";
  net.textContent = `${line} ${isKept ? `This page is kept: it opens without one.${lasts}` : "This page is not kept yet."}`;
};

const keep = async () => {
  if (!("serviceWorker" in navigator)) {
    net.textContent = "This browser cannot keep the page; write on paper where there is no signal.";
    return;
  }
  navigator.serviceWorker.addEventListener("message", (event) => {
    isKept = event.data.kept || isKept;
    sayNet();
  });
  await navigator.serviceWorker.register("/rounds/sw.js", { scope: "/rounds/" });
  const ready = await navigator.serviceWorker.ready;
  isKept = Boolean(await caches.match(body.page, { ignoreVary: true }));
  if (navigator.onLine) ready.active.postMessage({ keep: [body.page, ...body.keep] });
  sayNet();
};

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
  await save(body.outing, siteShown, draft);
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
  isReady = false;
  ready = bringIn(siteShown);
};

const bringIn = async (shown) => {
  const kept = await load(body.outing, shown);
  if (shown !== siteShown) return;
  draft = kept;
  isReady = true;
  if (isBlank(form)) fill(form, draft.fields);
  for (const select of form.querySelectorAll("select[name^=unit_]")) sayBacking(select);
  drawDraft();
};

// A way of typing that no calibration stands behind is said beside its unit, not discovered on sending.
const sayBacking = (select) => {
  const probe = body.probes.find((p) => `unit_${p.id}` === select.name);
  const entry = probe.entries.find((e) => e.key === select.value);
  const others = probe.entries.filter((e) => e.backed).map((e) => e.label);
  const line = document.querySelector(`[data-backing="${probe.id}"]`);
  line.textContent = entry.backed
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

// The form as a set of the visit; nothing where it cannot be or waits for its reason.
const takeSet = () => {
  const { rows, faults, at, depth } = read(form, body.probes, body.bounds);
  const odd = faults.length ? [] : oddities(rows, depth, body.probes, site());
  const reason = form.elements.reason.value.trim();
  if (faults.length || (odd.length && !reason)) {
    speak([...faults, ...odd, ...(odd.length ? ["Repeat it, or say below why it may be so."] : [])]);
    return null;
  }
  return { at: new Date().toISOString(), temperature_c: at, depth_m: depth, rows, reason };
};

const keepSet = async () => {
  await ready; // what was kept of this site comes first
  const set = takeSet();
  if (!set) return false;
  draft.sets.push(set);
  nextSet();
  await keepDraft();
  speak([]);
  drawDraft();
  return true;
};

document.querySelector("[data-more]").addEventListener("click", async () => {
  if (await keepSet()) form.elements.temperature_c.focus();
});

form.addEventListener("submit", async (event) => {
  event.preventDefault();
  await ready;
  if ((!isBlank(form) || !draft.sets.length) && !(await keepSet())) return;
  const { sets, photos } = draft;
  await add({ key: crypto.randomUUID(), site: siteShown, sets, note: form.elements.note.value, photos });
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
  await send();
});

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
document.querySelector("[data-send]").addEventListener("click", send);

const fileWords = document.querySelector("[data-file-words]");
document.querySelector("[data-save-file]").addEventListener("click", async () => {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(await asFile());
  link.download = `brumel-visits-${new Date().toISOString().slice(0, 10)}.json`;
  link.click();
  URL.revokeObjectURL(link.href);
});
document.querySelector("[data-read-file]").addEventListener("change", async (event) => {
  const [file] = event.target.files;
  if (!file) return;
  try {
    const count = await fromFile(await file.text());
    fileWords.textContent = count
      ? `${count} came back into the queue.`
      : "All of it is in the queue already.";
  } catch (error) {
    const why =
      error.message === "of another outing"
        ? "is of another outing; open that one"
        : "is no file of saved visits";
    fileWords.textContent = `${file.name} ${why}. Nothing was changed.`;
  }
  event.target.value = "";
});
window.addEventListener("online", () => {
  sayNet();
  send();
});
window.addEventListener("offline", sayNet);
setInterval(() => navigator.onLine && send(), 20_000);
navigator.storage?.persist?.().then(sayNet);
showSite();
draw();
keep().then(send);
