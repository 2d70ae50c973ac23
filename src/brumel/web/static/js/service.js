// A service visit at the water: led through step by step, kept in this browser as it is typed, and sent when there is a signal.
import { shrink } from "./field/photos.js";
import { button, database, isStored } from "./kept.js";
import { home } from "./root.js";

const root = document.querySelector("[data-service]");
const about = JSON.parse(root.dataset.service);
const form = root.querySelector("[data-steps]");
const steps = [...form.querySelectorAll("[data-step]")];
const [back, on] = [form.querySelector("[data-back]"), form.querySelector("[data-on]")];
const keep = form.querySelector("[data-keep]");
const saved = form.querySelector("[data-saved]");
const refused = root.querySelector("[data-refused]");
const queueWords = root.querySelector("[data-queue-words]");
const list = root.querySelector("[data-queue]");
const net = root.querySelector("[data-net]");
const PLACE = `service/${about.deployment}`;
// Times are typed by the site's own clock, whatever zone the phone is in; this locale writes them as a form wants them.
const siteClock = new Intl.DateTimeFormat("sv-SE", {
  timeZone: about.zone,
  dateStyle: "short",
  timeStyle: "medium",
});
const LEFT_OUT = ["csrf_token", "key", "turn", "photo"];

let photos = [];

// -- step by step

let step = 0;
const show = (number, isMoved = true) => {
  step = Math.min(Math.max(number, 0), steps.length - 1);
  steps.forEach((each, i) => {
    each.hidden = i !== step;
  });
  back.hidden = step === 0;
  const isLast = step === steps.length - 1;
  on.hidden = isLast;
  keep.hidden = !isLast;
  if (isMoved) steps[step].querySelector("input, textarea, select")?.focus();
};
back.addEventListener("click", () => show(step - 1));
on.addEventListener("click", () => show(step + 1));

for (const button of form.querySelectorAll("[data-now]")) {
  button.hidden = false;
  button.addEventListener("click", () => {
    const field = form.elements[button.dataset.now];
    field.value = siteClock.format(new Date()).replace(" ", "T");
    field.dispatchEvent(new Event("input", { bubbles: true }));
  });
}

// -- what is typed stays in this browser

const fields = () =>
  Object.fromEntries(
    [...form.elements]
      .filter((e) => e.name && !LEFT_OUT.includes(e.name))
      .filter((e) => e.type !== "checkbox" || e.checked)
      .map((e) => [e.name, e.value]),
  );

const fill = (typed) => {
  for (const element of form.elements) {
    if (!element.name || LEFT_OUT.includes(element.name)) continue;
    if (element.type === "checkbox") element.checked = typed[element.name] === element.value;
    else if (typed[element.name] !== undefined) element.value = typed[element.name];
  }
};

const isBlank = (typed) => !Object.entries(typed).some(([name, value]) => name !== "reason" && value.trim());

let turns = Promise.resolve();
const inTurn = (act) => {
  turns = turns.then(act, act);
  return turns;
};

const tell = (words) => {
  saved.textContent = words;
};

const keepDraft = () =>
  inTurn(async () => {
    const draft = { place: PLACE, fields: fields(), photos };
    const isThere = await isStored(
      async () => (await database()).put("drafts", draft),
      ([words]) => tell(words),
    );
    if (isThere) tell("Kept in this browser as you type.");
  });

// -- the queue

const mine = async () =>
  (await (await database()).getAll("queue")).filter(
    (item) => item.service && item.deployment === about.deployment,
  );

const clock = (text) => (text ? text.replace("T", " ").slice(0, 16) : "a visit");

const lineOf = (item) => {
  const line = document.createElement("li");
  const words = document.createElement("span");
  words.append(`Visit of ${clock(item.service.at)}`);
  const state = document.createElement("small");
  state.textContent = item.message ?? "Waits for a signal.";
  if (item.by !== about.me) state.textContent = `Filled in by ${item.name}: waits until they sign in here.`;
  words.append(state);
  line.append(words);
  if (item.message && item.by === about.me)
    line.append(
      button("Put the visit right", async () => {
        fill(item.service);
        photos = item.photos;
        await (await database()).delete("queue", item.number);
        await keepDraft();
        for (const fault of item.faults ?? []) mark(fault.field);
        await draw();
        show(stepOf(item.faults?.[0]?.field));
      }),
    );
  return line;
};

const draw = async () => {
  const items = await mine();
  queueWords.textContent = items.length
    ? `${items.length} visit${items.length === 1 ? "" : "s"} to be sent.`
    : "Nothing waits.";
  list.replaceChildren(...items.map(lineOf));
};

const mark = (field) => form.elements[field]?.classList?.add("wrong");
const stepOf = (field) => {
  const found = steps.findIndex((each) => field && each.querySelector(`[name="${CSS.escape(field)}"]`));
  return Math.max(found, 0);
};

// The token of a kept page may be of an earlier sign-in; the page as it is now has the right one.
const signedIn = async () => {
  const answer = await fetch(about.page, { headers: { Accept: "text/html" }, cache: "no-store" });
  if (answer.redirected || !answer.ok) throw new Error("signed out");
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  const token = page.querySelector("[data-steps] [name=csrf_token]")?.value;
  if (!token) throw new Error("not Brumel");
  return { token, me: JSON.parse(page.querySelector("[data-service]").dataset.service).me };
};

const toBlob = (base64) => {
  const bytes = Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
  return new Blob([bytes], { type: "image/jpeg" });
};

const sendOne = async (item, token) => {
  const body = new FormData();
  for (const [name, value] of Object.entries(item.service)) body.append(name, value);
  body.append("csrf_token", token);
  body.append("key", item.key);
  body.append("turn", "0");
  for (const photo of item.photos) body.append("photo", toBlob(photo.jpeg), photo.name);
  const answer = await fetch(about.send, { method: "POST", headers: { Accept: "application/json" }, body });
  if (answer.status >= 500) throw new Error("no answer");
  const told = await answer.json().catch(() => null);
  // Only Brumel's own word for this very visit strikes it out; anything else keeps it.
  if (answer.ok && told?.key === item.key && typeof told.visit === "string") {
    await (await database()).delete("queue", item.number);
    return told.visit;
  }
  const why = told?.message ?? "The answer did not come from Brumel.";
  await (await database()).put("queue", {
    ...item,
    message: `Not taken yet: ${why}`,
    faults: told?.faults ?? [],
  });
  return "";
};

const sendAll = async () => {
  const waiting = (await mine()).filter((item) => !item.message);
  if (!waiting.length || !navigator.onLine) return draw();
  let onward = "";
  try {
    const now = await signedIn();
    for (const item of waiting.filter((each) => each.by === now.me)) onward = await sendOne(item, now.token);
  } catch (error) {
    await draw();
    queueWords.textContent =
      error.message === "signed out"
        ? "Sign in again, then send: nothing is lost."
        : "No answer yet; it is tried again.";
    return undefined;
  }
  await draw();
  // What was refused is said here; only when nothing is left does the page lead on.
  const left = (await mine()).find((item) => item.message);
  if (left) {
    refused.hidden = false;
    refused.textContent = left.message;
    refused.focus();
  } else if (onward) window.location.assign(onward);
  return undefined;
};

let sending = Promise.resolve();
const send = () => {
  const alone = () => (navigator.locks ? navigator.locks.request("brumel-service-send", sendAll) : sendAll());
  sending = sending.then(alone, alone);
  return sending;
};

form.addEventListener("submit", (event) => {
  if (about.correcting) return; // a correction is made at a desk, and answered by a page
  event.preventDefault();
  if (step < steps.length - 1) {
    show(step + 1); // Enter leads on; a visit is kept from its last step alone
    return;
  }
  refused.hidden = true;
  for (const each of form.querySelectorAll(".wrong")) each.classList.remove("wrong");
  const typed = fields();
  if (isBlank(typed)) {
    tell("Nothing was typed yet.");
    return;
  }
  inTurn(async () => {
    const item = {
      service: typed,
      photos,
      deployment: about.deployment,
      key: crypto.randomUUID(),
      by: about.me,
      name: document.querySelector(".who-name")?.textContent.split(",")[0] ?? "",
      status: 0,
    };
    const isThere = await isStored(
      async () => (await database()).add("queue", item),
      ([words]) => tell(words),
    );
    if (!isThere) return;
    await (await database()).delete("drafts", PLACE);
    photos = [];
    form.reset();
    show(0, false);
    tell("It is in the queue.");
    await draw();
    await send();
  });
});

const photoField = form.elements.photo;
photoField?.addEventListener("change", () =>
  inTurn(async () => {
    const words = form.querySelector("[data-photo-words]");
    try {
      for (const file of photoField.files) photos = [...photos, await shrink(file)].slice(0, 6);
      words.textContent = `${photos.length} kept here`;
    } catch {
      words.textContent = "This is no picture the browser can read.";
    }
    photoField.value = "";
    await keepDraft();
  }),
);

const begin = async () => {
  if (about.correcting) return;
  show(0, false);
  const draft = await (await database()).get("drafts", PLACE);
  if (draft) {
    fill(draft.fields);
    photos = draft.photos ?? [];
    tell("What you typed before is still here.");
  }
  form.addEventListener("input", keepDraft);
  window.addEventListener("online", send);
  await draw();
  await send();
  if (!("serviceWorker" in navigator)) {
    net.textContent = "This browser keeps no page: stay on it without a signal.";
    return;
  }
  navigator.serviceWorker.addEventListener("message", (event) => {
    if (event.data?.kept !== undefined)
      net.textContent = event.data.kept
        ? "Kept: this page opens without a signal, and what you type stays."
        : "Not kept yet: open it once more where there is a signal.";
  });
  await navigator.serviceWorker.register(`${home}rounds/sw.js`, { scope: `${home}rounds/` });
  const worker = await navigator.serviceWorker.ready;
  const styles = [...document.querySelectorAll("link[rel=stylesheet], link[rel=modulepreload], script[src]")];
  const own = styles.map((each) => each.href || each.src).filter(Boolean);
  // A name that stands twice would be refused, and all of it with it.
  const whole = [about.page, ...about.kept, ...own].map((each) => new URL(each, window.location).href);
  worker.active.postMessage({ keep: [...new Set(whole)] });
};
begin();
