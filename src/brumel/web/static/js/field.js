// The field page: sheets go into a queue in the browser and are sent, once each and in order, when there is a signal.
import { openDB } from "../vendor/idb.js";

const root = document.querySelector("[data-field]");
const body = JSON.parse(root.dataset.field);
const form = document.querySelector("[data-sheet]");
const net = document.querySelector("[data-net]");
const list = document.querySelector("[data-queue]");
const queueWords = document.querySelector("[data-queue-words]");
const judged = document.querySelector("[data-judged]");
const numeral = (text) => Number(text.trim().replace("−", "-").replace(",", "."));

const db = openDB("brumel-field", 1, {
  upgrade: (base) => base.createObjectStore("queue", { keyPath: "number", autoIncrement: true }),
});
const mine = async () => (await (await db).getAll("queue")).filter((item) => item.outing === body.outing);

// -- the page itself

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

// -- judging by ranges alone

const site = () => body.sites.find((s) => s.id === form.elements.site.value);

const read = () => {
  const rows = [];
  const faults = [];
  const at = numeral(form.elements.temperature_c.value);
  if (!form.elements.temperature_c.value.trim())
    faults.push("Water temperature is missing. Every signal is read at it.");
  else if (!Number.isFinite(at) || at < -5 || at > 100)
    faults.push("Water temperature is not a number from −5 to 100.");
  const depthText = form.elements.depth_m.value.trim();
  const depth = depthText ? numeral(depthText) : null;
  if (depthText && !(depth >= 0 && depth <= 400)) faults.push("Depth is not a number from 0 to 400.");
  for (const probe of body.probes) {
    const text = form.elements[`value_${probe.id}`]?.value.trim();
    if (!text) continue;
    const unit = form.elements[`unit_${probe.id}`].value;
    const entry = probe.entries.find((e) => e.key === unit);
    const value = numeral(text);
    if (/^\d{1,3}[.,]\d{3}$/.test(text) && text.includes(",")) {
      faults.push(
        `${probe.name}: “${text}” can be read in two ways; write it with a point, or without the comma.`,
      );
    } else if (!Number.isFinite(value)) faults.push(`${probe.name}: “${text}” is not a number.`);
    else if (value < entry.low || value > entry.high) {
      faults.push(`${probe.name}: ${value} ${entry.label} lies outside ${entry.low} to ${entry.high}.`);
    } else rows.push({ probe: probe.id, unit, value });
  }
  const thermometer = body.probes.find((p) => p.quantity === "temperature");
  if (thermometer && Number.isFinite(at)) rows.unshift({ probe: thermometer.id, unit: "c", value: at });
  if (!rows.length) faults.push("Type what at least one display shows.");
  return { rows, faults, at, depth };
};

const oddities = (rows) => {
  const direct = { ph: "ph", temperature: "c", oxygen: "mg_l", conductivity: "us_cm_ref", chlorine: "mg_l" };
  const found = [];
  for (const row of rows) {
    const probe = body.probes.find((p) => p.id === row.probe);
    const range = site().usual[probe.quantity];
    if (!range || direct[probe.quantity] !== row.unit) continue;
    const [low, high] = range.usual ?? [];
    if (row.value < low || row.value > high) {
      found.push(
        `${probe.words} ${row.value} lies outside this site's usual ${low} to ${high}. Repeat it, or say why.`,
      );
    }
    const limit = site().limits[probe.quantity];
    if (
      limit &&
      ((limit.high !== null && row.value > limit.high) || (limit.low !== null && row.value < limit.low))
    ) {
      found.push(`${probe.words} ${row.value} lies beyond the limit. Judged without its uncertainty.`);
    }
  }
  return found;
};

const lines = (place, sentences) =>
  place.replaceChildren(
    ...sentences.map((words) => {
      const line = document.createElement("p");
      line.className = "suspicion";
      line.textContent = words;
      return line;
    }),
  );

const note = () => {
  document.querySelector("[data-note]").textContent = site().note;
};

// -- the queue

const button = (words, act) => {
  const made = document.createElement("button");
  made.type = "button";
  made.className = "act-quiet";
  made.textContent = words;
  made.addEventListener("click", act);
  return made;
};

const draw = async () => {
  const items = await mine();
  const waiting = items.filter((item) => !item.sent);
  queueWords.textContent = waiting.length
    ? `${waiting.length} sheet${waiting.length === 1 ? "" : "s"} wait${waiting.length === 1 ? "s" : ""} to be sent.`
    : "Nothing waits.";
  list.replaceChildren(
    ...items.map((item) => {
      const line = document.createElement("li");
      const words = document.createElement("span");
      const name = body.sites.find((s) => s.id === item.sheet.site)?.name ?? "a site";
      words.append(
        `${name}, ${new Date(item.sheet.at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" })}`,
      );
      const state = document.createElement("small");
      state.textContent = item.sent
        ? `Sent: ${item.readings} readings kept.`
        : (item.by ?? body.me) === body.me
          ? (item.message ?? "Waits for a signal. Worked out on sending.")
          : `Filled in by ${item.name}: waits until ${item.name} signs in here.`;
      words.append(state);
      line.append(words);
      if (item.status === 409) line.append(button("Keep both", () => change(item, { both: true })));
      if (item.status === 422) {
        const why = document.createElement("input");
        why.maxLength = 600;
        why.setAttribute("aria-label", `Why it may be so: ${name}`);
        why.value = item.sheet.reason;
        line.append(
          why,
          button("Send with this reason", () => change(item, { reason: why.value })),
        );
      }
      if (!item.sent && item.status) line.append(button("Drop mine", () => drop(item)));
      return line;
    }),
  );
};

const change = async (item, how) => {
  await (await db).put("queue", { ...item, sheet: { ...item.sheet, ...how }, status: 0, message: undefined });
  await send();
};

const drop = async (item) => {
  if (!window.confirm("Drop this sheet? It was never sent.")) return;
  await (await db).delete("queue", item.number);
  await draw();
};

// The token of the page may be of an earlier sign-in; the page as it is now has the right one.
const signedIn = async () => {
  const answer = await fetch(body.page, { headers: { Accept: "text/html" }, cache: "no-store" });
  if (!answer.ok || answer.redirected) throw new Error("signed out");
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  const place = page.querySelector("[data-token]").dataset;
  return { token: place.token, me: JSON.parse(place.field).me };
};

let sending = Promise.resolve();
const sendAll = async () => {
  let items = (await mine()).filter((item) => !item.sent);
  if (!items.length || !navigator.onLine) return draw();
  let now;
  try {
    now = await signedIn();
    // A phone may change hands: a sheet goes out under the name of who filled it in, or waits for them.
    items = items.filter((item) => (item.by ?? now.me) === now.me);
  } catch (error) {
    queueWords.textContent =
      error.message === "signed out"
        ? "Sign in again, then send: nothing is lost."
        : "No answer yet; it is tried again.";
    return undefined;
  }
  for (const item of items) {
    if (item.status) break; // in order: one that wants an answer holds the rest
    let answer;
    try {
      answer = await fetch(body.send, {
        method: "POST",
        headers: { "Content-Type": "application/json", "X-CSRFToken": now.token },
        body: JSON.stringify(item.sheet),
      });
    } catch {
      break; // the line broke; the same key is sent again
    }
    if (answer.status >= 500) break;
    const told = await answer.json().catch(() => ({ message: "The answer cannot be read." }));
    const news = answer.ok
      ? { sent: true, readings: told.readings }
      : { status: answer.status, message: told.message };
    await (await db).put("queue", { ...item, ...news });
    if (!answer.ok) break;
  }
  return draw();
};
// One sending at a time, in this window and in any other.
const send = () => {
  const alone = () => (navigator.locks ? navigator.locks.request("brumel-field-send", sendAll) : sendAll());
  sending = sending.then(alone, alone);
  return sending;
};

form.addEventListener("submit", async (event) => {
  event.preventDefault();
  const { rows, faults, at, depth } = read();
  const odd = faults.length ? [] : oddities(rows);
  const reason = form.elements.reason.value.trim();
  if (faults.length || (odd.length && !reason)) {
    lines(judged, [...faults, ...odd]);
    return;
  }
  const sheet = {
    key: crypto.randomUUID(),
    site: form.elements.site.value,
    at: new Date().toISOString(),
    temperature_c: at,
    depth_m: depth,
    rows,
    note: form.elements.note.value,
    reason,
  };
  await (await db).add("queue", { outing: body.outing, by: body.me, name: body.me_name, sheet, status: 0 });
  lines(judged, []);
  const next = form.elements.site.selectedIndex + 1;
  form.reset();
  if (next < form.elements.site.length) form.elements.site.selectedIndex = next;
  note();
  await draw();
  await send();
});
form.elements.site.addEventListener("change", note);
document.querySelector("[data-send]").addEventListener("click", send);
window.addEventListener("online", () => {
  sayNet();
  send();
});
window.addEventListener("offline", sayNet);
setInterval(() => navigator.onLine && send(), 20_000);
navigator.storage?.persist?.();
note();
draw();
keep().then(send);
