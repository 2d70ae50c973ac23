// Keeps the field page of a round and what it is drawn with, so that it opens without a signal. Nothing else is kept:
// every other page is asked for anew, so that nobody reads an old figure for a new one.
const CACHE = "brumel-field-1";

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

const kept = (url) =>
  /^\/rounds\/outings\/[0-9a-f-]+\/field$/.test(url.pathname) || url.pathname.startsWith("/static/");

self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  if (event.request.method !== "GET" || url.origin !== self.location.origin || !kept(url)) return;
  event.respondWith(
    fetch(event.request)
      .then(async (answer) => {
        if (answer.ok && !answer.redirected) {
          const cache = await caches.open(CACHE);
          if (await cache.match(event.request)) await cache.put(event.request, answer.clone());
        }
        return answer;
      })
      .catch(async (error) => {
        const found = await caches.match(event.request, { ignoreVary: true });
        if (found) return found;
        throw error;
      }),
  );
});
