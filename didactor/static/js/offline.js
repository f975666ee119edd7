// Tells the service worker whose page this is and what of it is to be kept for when there is no connection.

const person = document.body.dataset.person ?? "";

function named() {
  const loaded = performance.getEntriesByType("resource").map((entry) => new URL(entry.name));
  return loaded.filter((url) => url.origin === location.origin && /^\/(static|words)\//.test(url.pathname)).map((url) => url.pathname);
}

// Pages that the page itself names (data-keep), and everything it was made of.
export function wanted(root = document) {
  const pages = [...root.querySelectorAll("[data-keep]")].flatMap((element) => element.dataset.keep.split(" ").filter(Boolean));
  return [...new Set([...pages, ...(pages.length ? named() : [])])];
}

export async function keepAlso(urls) {
  const ready = await navigator.serviceWorker?.ready;
  ready?.active?.postMessage({ person, urls });
}

if (typeof navigator !== "undefined" && "serviceWorker" in navigator && typeof document !== "undefined" && document.body) {
  navigator.serviceWorker
    .register("/sw.js", { updateViaCache: "none" })
    .then(() => navigator.serviceWorker.ready)
    .then((ready) => {
      const tell = () => ready.active?.postMessage({ person, urls: wanted() });
      if (document.readyState === "complete") tell();
      else window.addEventListener("load", tell);
    })
    .catch(() => {});
}
