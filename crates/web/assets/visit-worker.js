// Keeps the pages of a visit for when there is no network. Nothing is changed on the way: answers of the server come
// first, and what was kept stands in only where it cannot be reached.
const KEPT = "upland-kept";
const isAsset = (url) => url.pathname.startsWith("/assets/");

self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));

self.addEventListener("message", (event) => {
  if (event.data && event.data.keep) event.waitUntil(keep(event.data.keep));
  if (event.data && event.data.forget) event.waitUntil(caches.delete(KEPT));
});

async function keep(addresses) {
  const cache = await caches.open(KEPT);
  const wanted = new Set(addresses.map((a) => new URL(a, self.location.href).href));
  // Assets of earlier versions are not needed any more.
  for (const request of await cache.keys()) {
    if (isAsset(new URL(request.url)) && !wanted.has(request.url)) await cache.delete(request);
  }
  await Promise.all([...wanted].map(async (address) => {
    if (isAsset(new URL(address)) && await cache.match(address)) return;
    try {
      const answer = await fetch(address, { credentials: "same-origin" });
      if (answer.ok && !answer.redirected) await cache.put(address, answer);
    } catch { /* It is kept the next time. */ }
  }));
}

self.addEventListener("fetch", (event) => {
  const { request } = event;
  const url = new URL(request.url);
  if (request.method !== "GET" || url.origin !== self.location.origin) return;
  if (isAsset(url)) event.respondWith(caches.match(request).then((known) => known || fetch(request)));
  else if (request.mode === "navigate") event.respondWith(page(request));
});

async function page(request) {
  try {
    const answer = await fetch(request);
    const cache = await caches.open(KEPT);
    const address = request.url.split("#")[0];
    if (answer.ok && !answer.redirected && await cache.match(address)) await cache.put(address, answer.clone());
    return answer;
  } catch (error) {
    const known = await caches.match(request.url.split("#")[0]);
    if (known) return known;
    throw error;
  }
}
