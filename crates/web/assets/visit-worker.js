// Keeps pages for when the server cannot be reached. Nothing is changed on the way while it can: answers of the server
// come first, and what was kept stands in only where there is none, with its age on it.
const KEPT = "upland-kept";
const AT = "x-kept-at";
const AT_ONCE = 4;
const LONGEST_DAYS = 7;
const isAsset = (url) => url.pathname.startsWith("/assets/");

self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));

self.addEventListener("message", (event) => {
  const tell = (said) => event.ports[0] && event.ports[0].postMessage(said);
  if (event.data && event.data.keep) event.waitUntil(keep(event.data.keep, tell));
  if (event.data && event.data.forget) event.waitUntil(caches.delete(KEPT));
});

// An answer with the time at which it was kept.
async function dated(answer) {
  const headers = new Headers(answer.headers);
  headers.set(AT, new Date().toISOString());
  return new Response(await answer.blob(), { status: answer.status, headers });
}

async function keep(addresses, tell) {
  const cache = await caches.open(KEPT);
  const pages = [...new Set(addresses.map((address) => new URL(address, self.location.href).href))];
  const assets = new Set();
  let kept = 0, missed = 0;
  const one = async (address) => {
    try {
      const answer = await fetch(address, { credentials: "same-origin" });
      if (!answer.ok || answer.redirected) throw new Error(address);
      const html = await answer.clone().text();
      for (const [, asset] of html.matchAll(/(?:src|href)="(\/assets\/[^"]+)"/g)) assets.add(new URL(asset, address).href);
      await cache.put(address, await dated(answer));
      kept += 1;
    } catch { missed += 1; }
    tell({ kept, missed, of: pages.length });
  };
  const left = [...pages];
  const next = async () => { for (let page = left.shift(); page; page = left.shift()) await one(page); };
  await Promise.all(Array.from({ length: AT_ONCE }, next));
  await Promise.all([...assets].map(async (address) => {
    if (await cache.match(address)) return;
    try {
      const answer = await fetch(address);
      if (!answer.ok) return;
      // Fonts are named by the style sheet alone.
      if (address.includes(".css")) {
        const css = await answer.clone().text();
        for (const [, font] of css.matchAll(/url\(["']?([^"')]+\.woff2[^"')]*)["']?\)/g)) {
          const at = new URL(font, address).href;
          if (!await cache.match(at)) await cache.add(at).catch(() => {});
        }
      }
      await cache.put(address, answer);
    } catch { /* It is kept the next time. */ }
  }));
  await tidy(cache, assets);
  tell({ kept, missed, of: pages.length, done: true });
}

// Assets of earlier versions and pages that nobody took along for a week are not needed any more.
async function tidy(cache, assets) {
  for (const request of await cache.keys()) {
    const url = new URL(request.url);
    if (isAsset(url)) {
      if (assets.size > 0 && url.searchParams.has("v") && !assets.has(request.url)) await cache.delete(request);
      continue;
    }
    const at = (await cache.match(request)).headers.get(AT);
    if (!at || Date.now() - new Date(at) > LONGEST_DAYS * 864e5) await cache.delete(request);
  }
}

self.addEventListener("fetch", (event) => {
  const { request } = event;
  const url = new URL(request.url);
  if (request.method !== "GET" || url.origin !== self.location.origin) return;
  if (isAsset(url)) event.respondWith(caches.match(request).then((known) => known || fetch(request)));
  else if (request.mode === "navigate") event.respondWith(page(request));
});

async function page(request) {
  const address = request.url.split("#")[0];
  try {
    const answer = await fetch(request);
    const cache = await caches.open(KEPT);
    if (answer.ok && !answer.redirected && await cache.match(address)) await cache.put(address, await dated(answer.clone()));
    return answer;
  } catch (error) {
    const known = await caches.match(address);
    if (!known) {
      const list = await caches.match(new URL("/waiting", address).href);
      if (!list || address.endsWith("/waiting")) throw error;
      return aged(list, ' data-missing="yes"');
    }
    return aged(known, "");
  }
}

// The page says how old it is: its own script reads the time from its body.
async function aged(known, more) {
  const html = await known.text();
  const at = known.headers.get(AT) || "";
  return new Response(html.replace("<body ", `<body data-kept-at="${at}"${more} `), { status: known.status, headers: known.headers });
}
