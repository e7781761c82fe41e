// The phone as camera. Photographs are kept on the phone until the laptop has them, so a lost
// connection costs nothing; the order of shots is known here and moves on without one.
(() => {
  "use strict";
  const $ = (id) => document.getElementById(id);
  const page = $("capture");

  // ---- what waits on this phone -------------------------------------------
  const open = () => new Promise((done, fail) => {
    const ask = indexedDB.open("dachi-camera", 1);
    ask.onupgradeneeded = () => ask.result.createObjectStore("waiting", { keyPath: "once" });
    ask.onsuccess = () => done(ask.result);
    ask.onerror = () => fail(ask.error);
  });
  const store = async (mode, act) => {
    const db = await open();
    return new Promise((done, fail) => {
      const deal = db.transaction("waiting", mode), ask = act(deal.objectStore("waiting"));
      deal.oncomplete = () => { db.close(); done(ask.result); };
      deal.onerror = deal.onabort = () => { db.close(); fail(deal.error); };
    });
  };
  const waiting = async (key) => (await store("readonly", (s) => s.getAll())).filter((w) => !key || w.key === key).sort((a, b) => a.at - b.at);

  if (!page) {
    waiting().then((all) => { if (all.length && $("left")) $("left").textContent = `${all.length} photograph${all.length > 1 ? "s wait" : " waits"} on this phone and ${all.length > 1 ? "are" : "is"} sent when a new code of the same assessment is opened.`; }).catch(() => {});
    return;
  }

  const key = page.dataset.key;
  let sheet = JSON.parse($("sheet-data").textContent);
  let now = 0, waits = 0;
  const same = (a, b) => a.pose === b.pose && a.side === b.side && a.mode === b.mode && a.number === b.number;

  async function show() {
    const queue = await waiting();
    const taken = (s) => s.taken || queue.some((w) => !w.problem && same(w.slot, s));
    const done = sheet.order.filter(taken).length;
    if (!sheet.order[now] || taken(sheet.order[now])) {
      const next = sheet.order.findIndex((s, i) => i >= now && !taken(s)), any = sheet.order.findIndex((s) => !taken(s));
      now = next >= 0 ? next : any >= 0 ? any : sheet.order.length;
    }
    $("count").textContent = `${done} of ${sheet.order.length}`;
    const slot = sheet.order[now];
    document.querySelectorAll(".capture-figure").forEach((f) => { f.hidden = !slot || f.dataset.pose !== slot.pose; });
    for (const id of ["skip", "take-label"]) $(id).hidden = !slot;
    document.querySelector(".hold").hidden = !slot;
    if (slot) {
      $("shot-name").textContent = slot.name;
      $("shot-what").innerHTML = "";
      if (slot.side !== "both") {
        const letter = document.createElement("span");
        letter.className = `letter letter-${slot.side}`; letter.textContent = slot.side[0].toUpperCase(); letter.setAttribute("aria-hidden", "true");
        $("shot-what").append(letter, ` ${slot.leg}${slot.leg === slot.side ? "" : ","} `);
      }
      $("shot-what").append(`${slot.mode}, trial ${slot.number}`);
      $("shot-how").textContent = slot.how[0].toUpperCase() + slot.how.slice(1) + ".";
      $("shot-say").textContent = `“${slot.say}”`;
      $("shot-camera").textContent = `Camera ${slot.camera}.`;
      document.querySelector(".hold").dataset.hold = slot.hold;
    } else {
      $("shot-name").textContent = "Every shot of the sheet is taken";
      for (const id of ["shot-what", "shot-how", "shot-say", "shot-camera"]) $(id).textContent = "";
      $("shot-say").textContent = queue.some((w) => !w.problem) ? "Keep this page open until the last one is sent." : "All of them are on the laptop. This page can be closed.";
    }
    verdict();
    $("again").hidden = !sheet.again.length;
    $("again").textContent = sheet.again.length ? `To take again, says the laptop: ${sheet.again.join("; ")}. It comes up as one more trial.` : "";
    const held = queue.filter((w) => !w.problem);
    $("held").hidden = !held.length;
    $("held").textContent = held.length ? `Waiting on this phone: ${held.map((w) => w.slot.words).join("; ")}. They are safe, also if this page closes; without a connection it cannot be opened again until the laptop is in reach.` : "";
    waits = held.length;
    // What was refused of somebody else is not for the eyes of whoever stands here now.
    const refused = queue.filter((w) => w.problem), own = (w) => w.key === key || w.aid === sheet.aid;
    $("refused").replaceChildren(...refused.map((w) => {
      const box = document.createElement("div"), words = document.createElement("span"), drop = document.createElement("button");
      box.className = "notice notice-retake"; words.textContent = own(w) ? `${w.slot.words}: ${w.problem}` : "A photograph of another assessment was not taken: its own code says why.";
      drop.type = "button"; drop.className = "btn btn-quiet btn-sm"; drop.textContent = "Put it away";
      drop.addEventListener("click", async () => { await store("readwrite", (s) => s.delete(w.once)); show(); });
      box.append(words, drop);
      return box;
    }));
  }

  // ---- can the last one be used? ---------------------------------------------
  let shown = "";
  function verdict() {
    const last = sheet.last, box = $("verdict");
    const state = last ? JSON.stringify([last.trial, last.looked, last.said]) : "";
    if (state === shown) return;
    shown = state;
    box.hidden = !last;
    if (!last) return;
    const worst = last.said.some(([kind]) => kind === "retake") ? "retake" : last.said.length ? "watch" : "ok";
    box.className = `shot-verdict ${last.looked ? `shot-${worst}` : ""}`;
    const head = document.createElement("b");
    head.textContent = !last.looked ? `Looking at ${last.words} …` : { ok: `✓ ${last.words}: can be used`, watch: `! ${last.words}`, retake: `↺ ${last.words}: better once more` }[worst];
    box.replaceChildren(head, ...last.said.map(([, words]) => Object.assign(document.createElement("p"), { textContent: words })));
    if (worst === "ok") return;
    const again = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-quiet", textContent: "Take that one again" });
    again.addEventListener("click", async () => {
      again.disabled = true;
      const body = new FormData();
      body.append("trial", last.trial);
      try {
        const answer = await fetch(page.dataset.replace, { method: "POST", body });
        const told = await answer.json();
        sheet = { ...sheet, ...told };
        if (told.problem) say(told.problem, true);
        const at = sheet.order.findIndex((s) => !s.taken && s.words === last.words);
        if (at >= 0) now = at;
        show();
      } catch { again.disabled = false; say("No connection to the laptop: take it as one more trial.", true); }
    });
    box.append(again);
  }
  const ask = async () => {
    try {
      const answer = await fetch(page.dataset.state, { cache: "no-store" });
      if (answer.ok) { sheet = { ...sheet, ...(await answer.json()) }; show(); }
    } catch { /* asked again in a while */ }
  };
  // What was just sent is looked at within seconds, while the person is still there.
  setInterval(() => { if (!document.hidden && sheet.last && !sheet.last.looked) ask(); }, 1500);

  // ---- sending, one at a time ----------------------------------------------
  let sending = false, pause = 0;
  const send = (w) => new Promise((done) => {
    const ask = new XMLHttpRequest(), body = new FormData();
    for (const name of ["pose", "side", "mode", "number"]) body.append(name, w.slot[name]);
    body.append("once_key", w.once);
    body.append("photo", new File([w.bytes], w.name || "photo.jpg", { type: w.type }));
    ask.open("POST", page.dataset.to);
    ask.timeout = 90000;
    ask.upload.onprogress = (e) => { if (e.lengthComputable) say(`Sending ${w.slot.words}: ${Math.round(100 * e.loaded / e.total)} %`); };
    ask.onload = () => done(ask);
    ask.onerror = ask.ontimeout = () => done(null);
    ask.send(body);
  });
  const say = (words, bad) => { $("sending").textContent = words; $("sending").classList.toggle("bad", Boolean(bad)); };

  async function pump() {
    if (sending) return;
    sending = true;
    try {
      for (;;) {
        const queue = (await waiting()).filter((w) => !w.problem && (w.key === key || w.aid === sheet.aid));
        if (!queue.length) { if (!$("sending").classList.contains("bad")) say(""); break; }
        const w = queue[0];
        const answer = await send(w);
        let body = null;
        try { body = answer && JSON.parse(answer.responseText); } catch { body = null; }
        if (answer && answer.status === 200 && body) {
          await store("readwrite", (s) => s.delete(w.once));
          pause = 0; sheet = { ...sheet, ...body };
          say(queue.length > 1 ? `Sent. ${queue.length - 1} more wait.` : "Sent.");
        } else if (answer && (answer.status === 413 || answer.status === 422)) {
          // Larger than anybody takes: sending it again would change nothing.
          await store("readwrite", (s) => s.put({ ...w, problem: body?.problem || "The photograph is larger than 50 MB. Choose a smaller size in the camera's settings, then take it again." }));
          // What was refused is the shot to take: the person is still there.
          const at = sheet.order.findIndex((s) => same(s, w.slot));
          if (at >= 0) now = at;
          say("");
        } else if (answer && (answer.status === 410 || answer.status === 404) && body) {
          say(`${body.problem} ${queue.length} photograph${queue.length > 1 ? "s wait" : " waits"} on this phone.`, true);
          break;
        } else {
          const why = answer && body && body.problem ? body.problem : "No connection to the laptop.";
          say(`${why} ${queue.length} photograph${queue.length > 1 ? "s are" : " is"} kept on this phone and sent once it is back. Go on photographing.`, true);
          pause = Math.min(pause + 1, 6);
          setTimeout(pump, 700 * pause);
          break;
        }
        await show();
      }
    } finally { sending = false; }
    show();
  }

  $("take").addEventListener("change", async (event) => {
    const file = event.target.files[0], slot = sheet.order[now];
    if (!file || !slot) return;
    const bytes = await file.arrayBuffer();
    const { taken: _taken, ...place } = slot;
    const once = Array.from(crypto.getRandomValues(new Uint8Array(12)), (b) => b.toString(16).padStart(2, "0")).join("");
    try {
      await store("readwrite", (s) => s.put({ once, key, aid: sheet.aid, at: Date.now(), slot: place, name: file.name, type: file.type, bytes }));
    } catch {
      say("This phone has no room left to keep the photograph. Free some space, then take it again.", true);
      return;
    }
    event.target.value = "";
    $("sending").classList.remove("bad");
    await show();
    pump();
  });
  $("skip").addEventListener("click", async () => {
    const queue = await waiting();
    const taken = (s) => s.taken || queue.some((w) => !w.problem && same(w.slot, s));
    for (let step = 1; step <= sheet.order.length; step++) {
      const i = (now + step) % sheet.order.length;
      if (!taken(sheet.order[i])) { now = i; break; }
    }
    show();
  });
  window.addEventListener("online", () => { pause = 0; pump(); });
  // A reload without a connection would show the browser's error in place of this page.
  window.addEventListener("beforeunload", (event) => { if (waits) event.preventDefault(); });
  setInterval(() => { if (!document.hidden) ask(); }, 8000);
  show().then(pump);
})();
