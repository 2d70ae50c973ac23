// The queue of visits in this browser: sent once each when there is a signal, struck out by Brumel's own answer alone.
import { database } from "../kept.js";

const body = JSON.parse(document.querySelector("[data-field]").dataset.field);
const list = document.querySelector("[data-queue]");
const queueWords = document.querySelector("[data-queue-words]");

const mine = async () =>
  (await (await database()).getAll("queue")).filter((item) => item.outing === body.outing);
const put = async (item) => (await database()).put("queue", item);

export const add = async (sheet) =>
  (await database()).add("queue", { outing: body.outing, by: body.me, name: body.me_name, sheet, status: 0 });

const button = (words, act) => {
  const made = document.createElement("button");
  made.type = "button";
  made.className = "act-quiet";
  made.textContent = words;
  made.addEventListener("click", act);
  return made;
};

// A sheet of an earlier version of this page is a visit of one set.
const setsOf = (sheet) => sheet.sets ?? [sheet];

// One reason answers every set that has none of its own.
const withReason = (sheet, reason) =>
  sheet.sets ? { sets: sheet.sets.map((set) => ({ ...set, reason: set.reason || reason })) } : { reason };

const change = async (item, how) => {
  await put({ ...item, sheet: { ...item.sheet, ...how }, status: 0, message: undefined });
  await send();
};

const drop = async (item) => {
  if (!window.confirm("Drop this visit? It was never sent.")) return;
  await (await database()).delete("queue", item.number);
  await draw();
};

const stateOf = (item) => {
  if (item.sent) return `Sent: ${item.readings} readings recorded.`;
  if ((item.by ?? body.me) !== body.me)
    return `Filled in by ${item.name}: waits until ${item.name} signs in here.`;
  return item.message ?? "Waits for a signal. Worked out on sending.";
};

const lineOf = (item) => {
  const line = document.createElement("li");
  const words = document.createElement("span");
  const name = body.sites.find((s) => s.id === item.sheet.site)?.name ?? "a site";
  const sets = setsOf(item.sheet);
  const at = new Date(sets[0].at).toLocaleTimeString([], {
    hour: "2-digit",
    minute: "2-digit",
    hourCycle: "h23",
  });
  const depths = [...new Set(sets.map((set) => set.depth_m))].filter((depth) => depth !== null);
  words.append(`${name}${depths.length ? `, ${depths.join(", ")} m` : ""}, ${at}`);
  const state = document.createElement("small");
  state.textContent = stateOf(item);
  words.append(state);
  line.append(words);
  if (item.sent || !item.status) return line;
  if (item.status === 409) line.append(button("Keep both", () => change(item, { both: true })));
  else if (item.status === 422) {
    const why = document.createElement("input");
    why.maxLength = 600;
    why.setAttribute("aria-label", `Why it may be so: ${name}`);
    why.value = setsOf(item.sheet).find((set) => set.reason)?.reason ?? "";
    line.append(
      why,
      button("Send with this reason", () => change(item, withReason(item.sheet, why.value))),
    );
  } else line.append(button("Try again", () => change(item, {})));
  line.append(button("Drop mine", () => drop(item)));
  return line;
};

export const draw = async () => {
  const items = await mine();
  const left = items.filter((item) => !item.sent).length;
  queueWords.textContent = left
    ? `${left} visit${left === 1 ? "" : "s"} wait${left === 1 ? "s" : ""} to be sent.`
    : "Nothing waits.";
  list.replaceChildren(...items.map(lineOf));
};

// The token of the page may be of an earlier sign-in; the page as it is now has the right one.
const signedIn = async () => {
  const answer = await fetch(body.page, { headers: { Accept: "text/html" }, cache: "no-store" });
  if (answer.redirected || answer.status === 401) throw new Error("signed out");
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  const place = page.querySelector("[data-token]")?.dataset;
  if (!place) throw new Error("not Brumel");
  return { token: place.token, me: JSON.parse(place.field).me };
};

// What an answer makes of a visit. Only Brumel's own word for this very visit strikes it out; anything else keeps it.
const judged = (item, answer, told) => {
  if (answer.ok && told?.key === item.sheet.key && Number.isInteger(told.readings))
    return { sent: true, readings: told.readings, message: undefined };
  if ([409, 422].includes(answer.status) && told?.message)
    return { status: answer.status, message: told.message };
  const why = told?.message ?? told?.error ?? "The answer did not come from Brumel.";
  return {
    status: answer.ok ? 400 : answer.status,
    message: `Not taken yet: ${why} The visit is safe here.`,
  };
};

const sendOne = async (item, token) => {
  const answer = await fetch(body.send, {
    method: "POST",
    headers: { "Content-Type": "application/json", Accept: "application/json", "X-CSRFToken": token },
    body: JSON.stringify(item.sheet),
  });
  if (answer.status >= 500) throw new Error("no answer");
  const outcome = judged(item, answer, await answer.json().catch(() => null));
  const sheet = outcome.sent ? { ...item.sheet, photos: [] } : item.sheet; // what is sent need not fill the phone
  await put({ ...item, sheet, ...outcome });
};

const sendAll = async () => {
  const items = (await mine()).filter((item) => !item.sent && !item.status);
  if (!items.length || !navigator.onLine) return draw();
  try {
    const now = await signedIn();
    // A phone may change hands: a visit goes out under the name of who filled it in, or waits for them.
    for (const item of items.filter((each) => (each.by ?? now.me) === now.me)) await sendOne(item, now.token);
  } catch (error) {
    await draw();
    queueWords.textContent =
      error.message === "signed out"
        ? "Sign in again, then send: nothing is lost."
        : "No answer yet; it is tried again.";
    return undefined; // the line broke; the same keys are sent again
  }
  return draw();
};

// One sending at a time, in this window and in any other.
let sending = Promise.resolve();
export const send = () => {
  const alone = () => (navigator.locks ? navigator.locks.request("brumel-field-send", sendAll) : sendAll());
  sending = sending.then(alone, alone);
  return sending;
};

// What waits, as a file of its own: for when a browser cannot be trusted to keep it, or a phone is handed in.
export const asFile = async () => {
  const items = (await mine()).filter((item) => !item.sent);
  const kept = { brumel: "field visits", version: 1, outing: body.outing, items };
  return new Blob([JSON.stringify(kept)], { type: "application/json" });
};

const isVisit = (item) =>
  typeof item?.sheet?.key === "string" && Array.isArray(item.sheet.sets) && typeof item.by === "string";

// Reads such a file back; what is in the queue already, by its key, is left as it is. Returns how many came in.
export const fromFile = async (text) => {
  const kept = JSON.parse(text);
  if (kept?.brumel !== "field visits" || !Array.isArray(kept.items) || !kept.items.every(isVisit))
    throw new Error("not a file of ours");
  if (kept.outing !== body.outing) throw new Error("of another outing");
  const have = new Set((await mine()).map((item) => item.sheet.key));
  const fresh = kept.items.filter((item) => !have.has(item.sheet.key));
  const base = await database();
  for (const { outing, by, name, sheet } of fresh)
    await base.add("queue", { outing, by, name, sheet, status: 0 });
  await draw();
  return fresh.length;
};
