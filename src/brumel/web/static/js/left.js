// Whoever comes to this page is signed out: the field pages kept in this browser go, with what they say of the sites.
// The queue of sheets that were never sent stays; it goes out when the one who filled it in signs in again.
if ("caches" in window) {
  for (const name of await caches.keys()) if (name.startsWith("brumel-field")) await caches.delete(name);
}
