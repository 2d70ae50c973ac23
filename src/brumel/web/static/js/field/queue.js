// The queue of visits in this browser: sent once each when there is a signal, struck out by Brumel's own answer alone.
import { button, database, waitWords } from "../kept.js";
import { answersIn, lineOf as questionLine } from "../questions.js";

const body = JSON.parse(document.querySelector("[data-field]").dataset.field);
const list = document.querySelector("[data-queue]");
const queueWords = document.querySelector("[data-queue-words]");

const mine = async () =>
  (await (await database()).getAll("queue")).filter((item) => item.outing === body.outing);
const put = async (item) => (await database()).put("queue", item);

const addItem = async (what) =>
  (await database()).add("queue", {
    outing: body.outing,
    by: body.me,
    name: body.me_name,
    ...what,
    status: 0,
  });

// A visit, or a typed run with its cups; each has a key of its own.
export const add = (sheet) => addItem({ sheet });
export const addRun = (run, words) => addItem({ run, words });

const keyOf = (item) => (item.sheet ?? item.run).key;

// The runs that wait in this phone: readings of their probes rest on them.
export const runsWaiting = async () => (await mine()).filter((item) => item.run && !item.sent);

// A sheet of an earlier version of this page is a visit of one set.
const setsOf = (sheet) => sheet.sets ?? [sheet];

// The answers to what Brumel asked, each with its own set: a code begins with the number of the set.
const withAnswers = (sheet, answers) => ({
  sets: setsOf(sheet).map((set, number) => {
    const own = Object.entries(answers).filter(([code]) => code.startsWith(`${number}:`));
    return {
      ...set,
      answers: {
        ...set.answers,
        ...Object.fromEntries(own.map(([c, a]) => [c.split(":").slice(1).join(":"), a])),
      },
    };
  }),
});

const change = async (item, how) => {
  const kind = item.run ? "run" : "sheet";
  await put({ ...item, [kind]: { ...item[kind], ...how }, status: 0, message: undefined, questions: [] });
  await draw(); // a press is answered at once, and cannot be given twice
  await send();
};

const drop = async (item) => {
  if (!window.confirm(`Drop this ${item.run ? "run" : "visit"}? It was never sent.`)) return;
  await (await database()).delete("queue", item.number);
  await draw();
};

const stateOf = (item) => {
  if (item.sent) return item.run ? `Sent. ${item.result}` : `Sent: ${item.readings} readings recorded.`;
  if ((item.by ?? body.me) !== body.me)
    return `Filled in by ${item.name}: waits until ${item.name} signs in here.`;
  if (item.behind) return `Waits for the run of ${item.behind}: its calibration is not yet judged.`;
  if (item.questions?.length) return "Not taken yet; it is safe here.";
  return item.message ?? "Waits for a signal. Worked out on sending.";
};

const clock = (time) =>
  new Date(time).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });

const headOf = (item) => {
  if (item.run) return `${item.words}, ${clock(item.run.started_at)}`;
  const name = body.sites.find((s) => s.id === item.sheet.site)?.name ?? "a site";
  const sets = setsOf(item.sheet);
  const depths = [...new Set(sets.map((set) => set.depth_m))].filter((depth) => depth !== null);
  return `${name}${depths.length ? `, ${depths.join(", ")} m` : ""}, ${clock(sets[0].at)}`;
};

const lineOf = (item) => {
  const line = document.createElement("li");
  const words = document.createElement("span");
  words.append(headOf(item));
  const state = document.createElement("small");
  state.textContent = stateOf(item);
  words.append(state);
  line.append(words);
  if (item.sent || !item.status) return line;
  if (item.status === 409) line.append(button("Keep both", () => change(item, { both: true })));
  else if (item.questions?.length && (item.run || item.sheet.sets)) {
    const asked = document.createElement("div");
    asked.className = "questions";
    asked.append(...item.questions.map((question, i) => questionLine(question, i === 0)));
    line.append(
      asked,
      button("Send with these reasons", () => {
        const answers = answersIn(asked);
        return change(
          item,
          item.run ? { answers: { ...item.run.answers, ...answers } } : withAnswers(item.sheet, answers),
        );
      }),
    );
  } else line.append(button("Try again", () => change(item, {})));
  line.append(button("Drop mine", () => drop(item)));
  return line;
};

export const draw = async () => {
  const items = await mine();
  const left = items.filter((item) => !item.sent);
  queueWords.textContent = left.length ? `${waitWords(left)} to be sent.` : "Nothing waits.";
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
  const isOurs = answer.ok && told?.key === keyOf(item);
  if (isOurs && item.run && typeof told.words === "string")
    return { sent: true, result: told.words, message: undefined };
  if (isOurs && item.sheet && Number.isInteger(told.readings))
    return { sent: true, readings: told.readings, message: undefined };
  if ([409, 422].includes(answer.status) && told?.message)
    return { status: answer.status, message: told.message, questions: told.questions ?? [] };
  const why = told?.message ?? told?.error ?? "The answer did not come from Brumel.";
  return {
    status: answer.ok ? 400 : answer.status,
    message: `Not taken yet: ${why} The ${item.run ? "run" : "visit"} is safe here.`,
  };
};

const sendOne = async (item, token) => {
  const answer = await fetch(item.run ? body.send_run : body.send, {
    method: "POST",
    headers: { "Content-Type": "application/json", Accept: "application/json", "X-CSRFToken": token },
    body: JSON.stringify(item.sheet ?? item.run),
  });
  if (answer.status >= 500) throw new Error("no answer");
  const outcome = judged(item, answer, await answer.json().catch(() => null));
  const slim = outcome.sent && item.sheet ? { sheet: { ...item.sheet, photos: [] } } : {}; // what is sent need not fill the phone
  await put({ ...item, ...slim, behind: undefined, ...outcome });
  return Boolean(outcome.sent);
};

const probesOf = (item) =>
  item.run ? [item.run.probe] : setsOf(item.sheet).flatMap((set) => set.rows.map((row) => row.probe));

// One after another as they were made. What rests on a run that was not taken waits behind it; the others pass.
const sendInOrder = async (items, token, me) => {
  const held = new Map();
  for (const item of items) {
    // A phone may change hands: a visit goes out under the name of who filled it in, or waits for them.
    const isMine = (item.by ?? me) === me;
    const behind = probesOf(item)
      .map((probe) => held.get(probe))
      .find(Boolean);
    const isDue = isMine && !item.status && !behind;
    if (item.behind !== behind) await put({ ...item, behind });
    const isSent = isDue && (await sendOne(item, token));
    if (item.run && !isSent) held.set(item.run.probe, item.words);
  }
};

const sendAll = async () => {
  const items = (await mine()).filter((item) => !item.sent);
  if (!items.some((item) => !item.status) || !navigator.onLine) return draw();
  try {
    const now = await signedIn();
    await sendInOrder(items, now.token, now.me);
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

const isOfOurs = (item) =>
  typeof item?.by === "string" &&
  ((typeof item.sheet?.key === "string" && item.sheet.sets?.[0]?.at) ||
    (typeof item.run?.key === "string" && Array.isArray(item.run.read)));

// Reads such a file back; what is in the queue already, by its key, is left as it is. Returns how many came in.
export const fromFile = async (text) => {
  const kept = JSON.parse(text);
  if (kept?.brumel !== "field visits" || !Array.isArray(kept.items) || !kept.items.every(isOfOurs))
    throw new Error("not a file of ours");
  if (kept.outing !== body.outing) throw new Error("of another outing");
  const have = new Set((await mine()).map(keyOf));
  const fresh = kept.items.filter((item) => !have.has(keyOf(item)));
  const base = await database();
  for (const { outing, by, name, sheet, run, words } of fresh)
    await base.add("queue", { outing, by, name, status: 0, ...(run ? { run, words } : { sheet }) });
  await draw();
  return fresh.length;
};
