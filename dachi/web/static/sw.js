// Keeps what a private link opened (own page, player, capture) so that it opens again without a
// connection. The network comes first; photographs and other people's pages are never kept.
const KEEP = "dachi-private-1", WAIT_MS = 3000;
const isPage = (u) => /^\/(me|c)\/[^/]+(\/play\/\d+)?$/.test(u.pathname);
const isPiece = (u) => u.pathname.startsWith("/static/");

self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => {
  event.waitUntil((async () => {
    for (const name of await caches.keys()) if (name !== KEEP) await caches.delete(name);
    await self.clients.claim();
  })());
});

async function kept(request) {
  const keep = await caches.open(KEEP);
  const known = await keep.match(request) || await keep.match(request, { ignoreSearch: true });
  try {
    // A network that says nothing is as good as none.
    const answer = await fetch(request, known ? { signal: AbortSignal.timeout(WAIT_MS) } : {});
    if (answer.ok && !answer.redirected) await keep.put(request, answer.clone());
    // A link that was taken back opens nothing here either.
    else if (answer.status === 404 || answer.status === 410) await keep.delete(request);
    return answer;
  } catch (error) {
    if (known) return known;
    throw error;
  }
}

self.addEventListener("fetch", (event) => {
  const u = new URL(event.request.url);
  if (event.request.method !== "GET" || u.origin !== location.origin) return;
  if (isPage(u) || isPiece(u)) event.respondWith(kept(event.request));
});

// What a page was made of before this worker was there to see it.
self.addEventListener("message", (event) => {
  if (!Array.isArray(event.data?.keep)) return;
  event.waitUntil((async () => {
    for (const address of event.data.keep) {
      const u = new URL(address, location.origin);
      if (u.origin === location.origin && (isPage(u) || isPiece(u))) await kept(new Request(u)).catch(() => null);
    }
    event.source?.postMessage({ kept: true });
  })());
});
