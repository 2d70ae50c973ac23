// The field page: sheets are filled in without a signal, judged by ranges, and put into the queue.
import { oddities, read } from "./field/judging.js";
import { add, draw, send } from "./field/queue.js";

const root = document.querySelector("[data-field]");
const body = JSON.parse(root.dataset.field);
const form = document.querySelector("[data-sheet]");
const net = document.querySelector("[data-net]");
const judged = document.querySelector("[data-judged]");

let isKept = false;
const sayNet = () => {
  const line = navigator.onLine ? "There is a signal." : "No signal.";
  net.textContent = `${line} ${isKept ? "This page is kept: it opens without one." : "This page is not kept yet."}`;
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

const site = () => body.sites.find((s) => s.id === form.elements.site.value);

const showSite = () => {
  document.querySelector("[data-note]").textContent = site().note;
};

const speak = (sentences) =>
  judged.replaceChildren(
    ...sentences.map((words) => {
      const line = document.createElement("p");
      line.className = "suspicion";
      line.textContent = words;
      return line;
    }),
  );

// The next sheet is usually another depth of this site, or another probe's: the site changes only by the technician.
const clearSheet = () => {
  const chosen = form.elements.site.value;
  const units = [...form.querySelectorAll("select[name^=unit_]")].map((select) => [select, select.value]);
  form.reset();
  form.elements.site.value = chosen;
  for (const [select, unit] of units) select.value = unit;
  form.elements.depth_m.focus({ preventScroll: true });
};

form.addEventListener("submit", async (event) => {
  event.preventDefault();
  const { rows, faults, at, depth } = read(form, body.probes, body.bounds);
  const odd = faults.length ? [] : oddities(rows, body.probes, site());
  const reason = form.elements.reason.value.trim();
  if (faults.length || (odd.length && !reason)) {
    speak([...faults, ...odd]);
    return;
  }
  await add({
    key: crypto.randomUUID(),
    site: form.elements.site.value,
    at: new Date().toISOString(),
    temperature_c: at,
    depth_m: depth,
    rows,
    note: form.elements.note.value,
    reason,
  });
  speak([]);
  clearSheet();
  await draw();
  await send();
});
form.elements.site.addEventListener("change", showSite);
document.querySelector("[data-send]").addEventListener("click", send);
window.addEventListener("online", () => {
  sayNet();
  send();
});
window.addEventListener("offline", sayNet);
setInterval(() => navigator.onLine && send(), 20_000);
navigator.storage?.persist?.();
showSite();
draw();
keep().then(send);
