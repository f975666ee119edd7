// Once opened, a task works without a connection: its page, its sounds and what they are made of are kept. Nothing that was sent is.
// Served from the root (see web/offline.py), so that it may answer for every page.

const ASSETS = "assets";
const MOST_ASSETS = 400;
const PRIVATE = "private-";
const OFFLINE = "/offline/";

const mine = (url) => url.origin === self.location.origin;
const isAsset = (url) => url.pathname.startsWith("/static/") || url.pathname.startsWith("/words/");
// Files that do not change under their address: rendered sounds.
const isSound = (url) => /^\/library\/(models|references\/sounds)\/\d+\/$/.test(url.pathname);

async function fromAssets(request) {
  const cache = await caches.open(ASSETS);
  const kept = await cache.match(request);
  if (kept) return kept;
  const answer = await fetch(request);
  if (answer.ok && answer.status === 200) cache.put(request, answer.clone());
  return answer;
}

async function keptByAnybody(request) {
  for (const name of await caches.keys()) {
    if (!name.startsWith(PRIVATE)) continue;
    const kept = await (await caches.open(name)).match(request, { ignoreSearch: request.mode === "navigate", ignoreVary: true });
    if (kept) return kept;
  }
  return null;
}

async function page(request) {
  try {
    return await fetch(request);
  } catch {
    return (await keptByAnybody(request)) ?? (await (await caches.open(ASSETS)).match(OFFLINE)) ?? Response.error();
  }
}

async function sound(request) {
  return (await keptByAnybody(request)) ?? fetch(request);
}

// What a page names is fetched anew and kept for its person; an answer that leads elsewhere (to the sign-in) is not it.
async function keep(person, urls) {
  const own = `${PRIVATE}${person}`;
  for (const name of await caches.keys()) if (name.startsWith(PRIVATE) && name !== own) await caches.delete(name);
  if (!person) return;
  const assets = await caches.open(ASSETS);
  const cache = await caches.open(own);
  for (const address of urls) {
    const url = new URL(address, self.location.origin);
    if (!mine(url)) continue;
    try {
      if (isAsset(url)) {
        if (!(await assets.match(url.href))) await assets.add(url.href);
        continue;
      }
      if (isSound(url) && (await cache.match(url.href))) continue;
      const answer = await fetch(url.href, { credentials: "same-origin", redirect: "manual" });
      if (answer.status === 200 && answer.type === "basic") await cache.put(url.href, answer);
    } catch {
      // Without a connection nothing can be kept now; the next opened page tries again.
    }
  }
  const old = await assets.keys();
  for (const request of old.slice(0, Math.max(0, old.length - MOST_ASSETS))) await assets.delete(request);
}

self.addEventListener("install", (event) => {
  self.skipWaiting();
  event.waitUntil(caches.open(ASSETS).then((cache) => cache.add(new Request(OFFLINE, { cache: "reload" }))));
});
self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));
self.addEventListener("message", (event) => event.waitUntil(keep(event.data.person, event.data.urls)));
self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  if (event.request.method !== "GET" || !mine(url) || event.request.headers.has("HX-Request")) return;
  if (isAsset(url)) event.respondWith(fromAssets(event.request));
  else if (event.request.mode === "navigate") event.respondWith(page(event.request));
  else if (isSound(url) && !event.request.headers.has("Range")) event.respondWith(sound(event.request));
});
