// Keeps the field page of a round and what it is drawn with, so that it opens without a signal. Nothing else is kept:
// every other page is asked for anew, so that nobody reads an old figure for a new one.
const CACHE = "brumel-field-2";
// Who may open the kept pages, and until when; written by the pages themselves (kept.js), read here.
const SESSION = "/rounds/kept-session";
// Where Brumel lies on its host, without a slash at the end: nothing at the top, or the path it is under.
const ROOT = self.location.pathname.replace(/\/rounds\/sw\.js$/, "");
// An address as it stands below that; nothing for what is not ours.
const below = (url) => (url.pathname.startsWith(`${ROOT}/`) ? url.pathname.slice(ROOT.length) : "");

self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));

self.addEventListener("message", (event) => {
  if (!Array.isArray(event.data?.keep)) return;
  const keeping = caches.open(CACHE).then((cache) => cache.addAll(event.data.keep));
  event.waitUntil(
    keeping.then(
      () => event.source?.postMessage({ kept: true }),
      () => event.source?.postMessage({ kept: false }),
    ),
  );
});

// The pages that open without a signal: an outing's sites and the cups of its probes, and the service of a logger.
const isField = (url) =>
  /^\/rounds\/(outings\/[0-9a-f-]+\/(field|cups)|deployments\/[0-9a-f-]+\/service)$/.test(below(url));

// Where the home screen leads; without a signal that is the field page that was kept last.
const RUNNING = "/rounds/running";

const keptField = async (cache) => {
  const fields = (await cache.keys()).filter((each) => /\/field$/.test(new URL(each.url).pathname));
  const last = fields.at(-1);
  return last && Response.redirect(last.url);
};

const isOpen = async (cache, page) => {
  const stored = await cache.match(SESSION);
  if (!stored) return false;
  const session = await stored.json();
  return (
    !session.locked &&
    session.user === page.headers.get("X-Brumel-User") &&
    Date.now() < Date.parse(session.until)
  );
};

const LOCKED = `<!doctype html><html lang="en"><meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1"><title>Signed out · Brumel</title>
<link rel="stylesheet" href="${ROOT}/static/css/ink.css"><link rel="stylesheet" href="${ROOT}/static/css/book.css">
<main id="main"><section class="leaf"><h1>This page is locked</h1>
<p>Your sign-in ran out, or you are signed out. Sign in again where there is a signal: this page then opens, and every
visit that waits in this phone is still here and is sent.</p></section></main></html>`;

// The locked page asks for its styles without a version; those of any kept page serve.
const ofAnyVersion = async (cache, path) => {
  const name = path.replace(/^\/static\//, "/");
  const kept = await cache.keys();
  const one = kept.find((each) => {
    const other = below(new URL(each.url));
    return other.startsWith("/static/") && other.endsWith(name);
  });
  return one && cache.match(one, { ignoreVary: true });
};

const fromCache = async (request, error) => {
  const cache = await caches.open(CACHE);
  const path = below(new URL(request.url));
  if (path === RUNNING) return (await keptField(cache)) ?? Promise.reject(error);
  const found =
    (await cache.match(request, { ignoreVary: true })) ??
    (path.startsWith("/static/") ? await ofAnyVersion(cache, path) : undefined);
  if (!found) throw error;
  if (!isField(new URL(request.url)) || (await isOpen(cache, found))) return found;
  return new Response(LOCKED, { headers: { "Content-Type": "text/html; charset=utf-8" } });
};

self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  const mine = isField(url) || below(url) === RUNNING || below(url).startsWith("/static/");
  if (event.request.method !== "GET" || url.origin !== self.location.origin || !mine) return;
  event.respondWith(
    fetch(event.request)
      .then(async (answer) => {
        if (answer.ok && !answer.redirected) {
          const cache = await caches.open(CACHE);
          if (await cache.match(event.request)) await cache.put(event.request, answer.clone());
        }
        return answer;
      })
      .catch((error) => fromCache(event.request, error)),
  );
});
