// What this browser keeps of a round: who may open it, and what a deliberate sign-out does to it.
export const CACHE = "brumel-field-2";
const SESSION = "/rounds/kept-session";

// The queue of sheets that wait to be sent; it outlives every sign-out.
let base;
export const database = () => {
  base ??= import("../vendor/idb.js").then(({ openDB }) =>
    openDB("brumel-field", 2, {
      upgrade: (base, version) => {
        if (version < 1) base.createObjectStore("queue", { keyPath: "number", autoIncrement: true });
        if (version < 2) base.createObjectStore("drafts", { keyPath: "place" });
      },
    }),
  );
  return base;
};

// A button of a line that waits.
export const button = (words, act) => {
  const made = document.createElement("button");
  made.type = "button";
  made.className = "act-quiet";
  made.textContent = words;
  made.addEventListener("click", act);
  return made;
};

const several = (count, what) => (count ? [`${count} ${what}${count === 1 ? "" : "s"}`] : []);

// What waits, in words: "1 visit waits", "2 visits and 1 run wait".
export const waitWords = (items) => {
  const runs = items.filter((item) => item.run).length;
  const words = [...several(items.length - runs, "visit"), ...several(runs, "run")].join(" and ");
  return `${words} wait${items.length === 1 ? "s" : ""}`;
};

const FULL =
  "This phone is full: nothing more is kept. What is on this page is still here. Save what waits as a file, or write it down.";

// Whether the phone took it; where it is full that is told, and what is on the page stays there.
export const isStored = async (keepIt, tell) => {
  try {
    await keepIt();
    return true;
  } catch {
    tell([FULL]);
    return false;
  }
};

// Visits and runs that are not sent, those in the making too.
export const waiting = async () => {
  const base = await database();
  const queued = (await base.getAll("queue")).filter((item) => !item.sent);
  const begun = (await base.getAll("drafts")).filter(
    (draft) => draft.sets?.length || draft.run || draft.place.startsWith("service/"),
  );
  return [...queued, ...begun];
};

const write = async (session) => {
  if (!("caches" in window)) return;
  const cache = await caches.open(CACHE);
  await cache.put(
    SESSION,
    new Response(JSON.stringify(session), { headers: { "Content-Type": "application/json" } }),
  );
};

export const unlock = (user, until) => write({ user, until, locked: false });

export const lock = async () => {
  if ("caches" in window && (await caches.has(CACHE))) await write({ locked: true });
};

export const clear = async () => {
  if (!("caches" in window)) return;
  for (const name of await caches.keys()) if (name.startsWith("brumel-field")) await caches.delete(name);
};
