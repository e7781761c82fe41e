// A page behind a private link opens again without a connection, where the browser allows it:
// over https, or on this very machine.
if (window.isSecureContext && "serviceWorker" in navigator) {
  navigator.serviceWorker.addEventListener("message", (event) => {
    if (event.data?.kept) document.documentElement.dataset.kept = "1";
  });
  navigator.serviceWorker.register("/sw.js").then(async () => {
    const ready = await navigator.serviceWorker.ready;
    const pieces = performance.getEntriesByType("resource").map((r) => r.name).filter((n) => n.includes("/static/"));
    ready.active?.postMessage({ keep: [location.href.split("#")[0], ...pieces] });
  }).catch(() => {});
}
