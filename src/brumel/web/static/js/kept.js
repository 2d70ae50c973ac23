// What this browser keeps of a round: who may open it, and what a deliberate sign-out does to it.
export const CACHE = "brumel-field-2";
const SESSION = "/rounds/kept-session";

// The queue of sheets that wait to be sent; it outlives every sign-out.
let base;
export const database = () => {
  base ??= import("../vendor/idb.js").then(({ openDB }) =>
    openDB("brumel-field", 1, {
      upgrade: (fresh) => fresh.createObjectStore("queue", { keyPath: "number", autoIncrement: true }),
    }),
  );
  return base;
};

export const waiting = async () => (await (await database()).getAll("queue")).filter((item) => !item.sent);

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
